#include "contents/archives/inflate_stream.h"

#include <libdeflate.h>
#include <zlib.h>

#include <algorithm>
#include <memory>
#include <vector>

namespace lantern::kinds {
namespace {

class Inflater {
 public:
  Inflater() { ready_ = ::inflateInit2(&stream, -MAX_WBITS) == Z_OK; }
  ~Inflater() {
    if (ready_) ::inflateEnd(&stream);
  }
  Inflater(const Inflater&) = delete;
  Inflater& operator=(const Inflater&) = delete;
  bool ready() const { return ready_; }

  z_stream stream{};

 private:
  bool ready_ = false;
};

constexpr std::uint64_t kMaxAtOnce = 1u << 20;
constexpr std::uint64_t kProof = 4096;  // bytes: more do not come from chance

// One for a thread: making it costs more than a small member.
struct AtOnce {
  std::unique_ptr<libdeflate_decompressor, decltype(&libdeflate_free_decompressor)> unpacker{
      libdeflate_alloc_decompressor(), libdeflate_free_decompressor};
  std::vector<std::byte> out = std::vector<std::byte>(kMaxAtOnce);
};

}  // namespace

Inflated inflate_known(KindReader& file, Range packed, std::uint64_t unpacked_bytes) {
  if (packed.length > KindReader::kMaxView || unpacked_bytes > kMaxAtOnce)
    return inflate_stream(file, packed.offset, packed.length);
  static thread_local AtOnce at_once;
  if (!at_once.unpacker) return inflate_stream(file, packed.offset, packed.length);
  const ByteView bytes = file.view(packed.offset, static_cast<std::size_t>(packed.length));
  std::size_t used = 0, made = 0;
  if (libdeflate_deflate_decompress_ex(at_once.unpacker.get(), bytes.data(), bytes.size(),
                                       at_once.out.data(), static_cast<std::size_t>(unpacked_bytes),
                                       &used, &made) != LIBDEFLATE_SUCCESS)
    file.broken(packed.offset, "its packed bytes make no sense");
  return {packed.offset + used, made, libdeflate_crc32(0, at_once.out.data(), made),
          libdeflate_adler32(1, at_once.out.data(), made)};
}

std::uint64_t past_zlib(KindReader& file, std::uint64_t at, std::uint64_t length) {
  const Inflated got = inflate_stream(file, at, length);
  if (file.be32(got.end) != got.adler32)
    file.broken_in({at, got.end - at}, "a packed part's checksum is wrong");
  return got.end + 4;
}

Inflated inflate_stream(KindReader& file, std::uint64_t at, std::uint64_t length) {
  constexpr std::uint64_t kPiece = 64u << 10;
  Inflated got;
  Inflater inflater;
  if (!inflater.ready()) file.broken(at, "it cannot be unpacked here");
  std::vector<std::byte> out(4 * kPiece);
  const std::uint64_t end = at + std::min(length, file.size() - std::min(at, file.size()));
  while (at < end) {
    const ByteView piece = file.view(at, static_cast<std::size_t>(std::min(kPiece, end - at)));
    // zlib takes what it does not change as if it might.
    inflater.stream.next_in = const_cast<Bytef*>(reinterpret_cast<const Bytef*>(piece.data()));
    inflater.stream.avail_in = static_cast<uInt>(piece.size());
    int state = Z_OK;
    do {
      file.check_cancelled();
      inflater.stream.next_out = reinterpret_cast<Bytef*>(out.data());
      inflater.stream.avail_out = static_cast<uInt>(out.size());
      state = ::inflate(&inflater.stream, Z_NO_FLUSH);
      const std::size_t made = out.size() - inflater.stream.avail_out;
      got.crc32 = libdeflate_crc32(got.crc32, out.data(), made);
      got.adler32 = libdeflate_adler32(got.adler32, out.data(), made);
      got.length += made;
      file.spend(made * 2, at);
      if (got.length >= kProof) file.prove();
      if (got.length > kMaxUnpacked) file.give_up(at, "it unpacks to more than is looked at");
      if (state != Z_OK && state != Z_STREAM_END && state != Z_BUF_ERROR)
        file.broken(at + piece.size() - inflater.stream.avail_in, "its packed bytes make no sense");
    } while (state == Z_OK && (inflater.stream.avail_in > 0 || inflater.stream.avail_out == 0));
    at += piece.size() - inflater.stream.avail_in;
    if (state == Z_STREAM_END) {
      got.end = at;
      return got;
    }
  }
  file.cut(at, "its packed bytes end before their end");
}

}  // namespace lantern::kinds
