#include "serve/net/nbd_protocol.h"

#include "base/store.h"

namespace lantern::nbd {
namespace {

constexpr std::uint64_t kHelloMagic = 0x4e42444d41474943;   // "NBDMAGIC"
constexpr std::uint64_t kOptionMagic = 0x49484156454F5054;  // "IHAVEOPT"
constexpr std::uint64_t kReplyMagic = 0x0003e889045565a9;
constexpr std::uint32_t kRequestMagic = 0x25609513, kSimpleMagic = 0x67446698,
                        kChunkMagic = 0x668e33ef;
constexpr std::uint16_t kFixedNewstyle = 1, kNoZeroes = 2;
constexpr std::uint32_t kMaxName = 4096;  // as the protocol says
constexpr std::size_t kMaxQueries = 64;

template <typename Number>
void put(Bytes& bytes, Number value) {
  bytes.resize(bytes.size() + sizeof(Number));
  store_be(bytes, bytes.size() - sizeof(Number), value);
}

void put_text(Bytes& bytes, const std::string& text) {
  for (const char c : text) bytes.push_back(static_cast<std::byte>(c));
}

// A length and so many bytes; empty: they do not fit.
std::optional<std::string> text_at(ByteView data, std::size_t& at) {
  if (data.size() < at + 4) return std::nullopt;
  const std::uint32_t length = be32(data, at);
  if (length > kMaxName || length > data.size() - at - 4) return std::nullopt;
  std::string text = text_of(slice(data, at + 4, length));
  at += 4 + length;
  return text;
}

}  // namespace

std::optional<OptionHead> option_head(ByteView bytes) {
  if (bytes.size() < kOptionBytes || be64(bytes, 0) != kOptionMagic) return std::nullopt;
  return OptionHead{be32(bytes, 8), be32(bytes, 12)};
}

std::optional<Request> request(ByteView bytes) {
  if (bytes.size() < kRequestBytes || be32(bytes, 0) != kRequestMagic) return std::nullopt;
  return Request{be16(bytes, 4), be16(bytes, 6), be64(bytes, 8), be64(bytes, 16), be32(bytes, 24)};
}

std::uint32_t why_refused(const Request& request, std::uint64_t size_bytes, bool writable) {
  const bool writes =
      request.command == kWrite || request.command == kWriteZeroes || request.command == kTrim;
  if (writes && !writable) return kPermission;
  if (request.command == kFlush || request.command == kDisconnect) return 0;
  if (request.command > kBlockStatus) return kBad;
  if (request.offset > size_bytes || request.length > size_bytes - request.offset)
    return writes ? kNoSpace : kBad;
  const bool moves = request.command == kRead || request.command == kWrite;
  if (moves && request.length > kMaxRequest) return kOverflow;
  return request.command == kBlockStatus && request.length == 0 ? kBad : 0u;
}

std::optional<InfoRequest> info_request(ByteView data) {
  InfoRequest asked;
  std::size_t at = 0;
  auto name = text_at(data, at);
  if (!name || data.size() < at + 2) return std::nullopt;
  asked.name = std::move(*name);
  const std::size_t count = be16(data, at);
  at += 2;
  if (data.size() - at != 2 * count) return std::nullopt;
  for (std::size_t i = 0; i < count; ++i) asked.asked.push_back(be16(data, at + 2 * i));
  return asked;
}

std::optional<MetaRequest> meta_request(ByteView data) {
  MetaRequest asked;
  std::size_t at = 0;
  auto name = text_at(data, at);
  if (!name || data.size() < at + 4) return std::nullopt;
  asked.name = std::move(*name);
  const std::uint32_t count = be32(data, at);
  at += 4;
  if (count > kMaxQueries) return std::nullopt;
  for (std::uint32_t i = 0; i < count; ++i) {
    auto query = text_at(data, at);
    if (!query) return std::nullopt;
    asked.queries.push_back(std::move(*query));
  }
  return at == data.size() ? std::optional(asked) : std::nullopt;
}

Bytes hello() {
  Bytes bytes;
  put(bytes, kHelloMagic);
  put(bytes, kOptionMagic);
  put<std::uint16_t>(bytes, kFixedNewstyle | kNoZeroes);
  return bytes;
}

Bytes option_reply(std::uint32_t option, std::uint32_t kind, ByteView data) {
  Bytes bytes;
  put(bytes, kReplyMagic);
  put(bytes, option);
  put(bytes, kind);
  put(bytes, static_cast<std::uint32_t>(data.size()));
  bytes.insert(bytes.end(), data.begin(), data.end());
  return bytes;
}

Bytes export_info(std::uint64_t size_bytes, std::uint16_t flags) {
  Bytes bytes;
  put<std::uint16_t>(bytes, 0);
  put(bytes, size_bytes);
  put(bytes, flags);
  return bytes;
}

Bytes block_sizes() {
  constexpr std::uint32_t kPreferred = 4096;
  Bytes bytes;
  put<std::uint16_t>(bytes, 3);
  put<std::uint32_t>(bytes, 1);
  put(bytes, kPreferred);
  put(bytes, kMaxRequest);
  return bytes;
}

Bytes old_export(std::uint64_t size_bytes, std::uint16_t flags, bool with_zeroes) {
  constexpr std::size_t kZeroes = 124;
  Bytes bytes;
  put(bytes, size_bytes);
  put(bytes, flags);
  if (with_zeroes) bytes.resize(bytes.size() + kZeroes);
  return bytes;
}

Bytes listed(const std::string& name, const std::string& description) {
  Bytes bytes;
  put(bytes, static_cast<std::uint32_t>(name.size()));
  put_text(bytes, name);
  put_text(bytes, description);
  return bytes;
}

Bytes meta_context(std::uint32_t id, const std::string& name) {
  Bytes bytes;
  put(bytes, id);
  put_text(bytes, name);
  return bytes;
}

Bytes simple_reply(std::uint64_t cookie, std::uint32_t error) {
  Bytes bytes;
  put(bytes, kSimpleMagic);
  put(bytes, error);
  put(bytes, cookie);
  return bytes;
}

Bytes chunk_head(std::uint64_t cookie, Chunk kind, bool last, std::uint32_t length) {
  Bytes bytes;
  put(bytes, kChunkMagic);
  put<std::uint16_t>(bytes, last ? 1 : 0);
  put(bytes, static_cast<std::uint16_t>(kind));
  put(bytes, cookie);
  put(bytes, length);
  return bytes;
}

}  // namespace lantern::nbd
