#include "volume/luks/header.h"

#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <tuple>

#include "base/json_reader.h"
#include "volume/bytes_at.h"

namespace lantern::luks {
namespace {

using namespace std::string_view_literals;

constexpr std::string_view kMark = "LUKS\xBA\xBE"sv, kSecondMark = "SKUL\xBA\xBE"sv;
constexpr std::size_t kHead = 4096;
constexpr std::uint64_t kMaxHeader = 4u << 20;
constexpr std::size_t kChecksumAt = 448, kChecksumBytes = 64;
constexpr std::size_t kMaxParts = 64;  // slots, digests, segments; the standard allows 32

std::string field(ByteView head, std::size_t at, std::size_t length) {
  const std::string text = text_of(slice(head, at, length));
  return text.substr(0, text.find('\0'));
}

Bytes bytes_of(ByteView head, std::size_t at, std::size_t length) {
  const ByteView part = slice(head, at, length);
  return {part.begin(), part.end()};
}

Header read_first_version(ByteView head) {
  Header header;
  header.version = 1;
  // It has no checksum: its figures must fit.
  header.sum_is_right =
      be32(head, 108) >= 16 && be32(head, 108) <= 512 && u8(head, 8) != 0 && u8(head, 72) != 0;
  header.uuid = field(head, 168, 40);
  const std::string cipher = field(head, 8, 32) + "-" + field(head, 40, 32);
  const std::string hash = field(head, 72, 32);
  const std::uint64_t key_bytes = be32(head, 108);
  Digest digest;
  digest.derivation = {"pbkdf2", hash, be32(head, 164), 0, 0, bytes_of(head, 132, 32)};
  digest.value = bytes_of(head, 112, 20);
  digest.segments = {"0"};
  for (std::size_t i = 0; i < 8; ++i) {
    constexpr std::uint32_t kInUse = 0x00AC71F3;
    const std::size_t at = 208 + 48 * i;
    if (be32(head, at) != kInUse) continue;
    KeySlot slot;
    slot.number = std::to_string(i);
    slot.derivation = {"pbkdf2", hash, be32(head, at + 4), 0, 0, bytes_of(head, at + 8, 32)};
    slot.key_bytes = slot.cipher_key_bytes = key_bytes;
    slot.stripes = be32(head, at + 44);
    slot.spread_hash = hash;
    slot.cipher = cipher;
    slot.place = std::uint64_t{be32(head, at + 40)} * kSector;
    digest.slots.push_back(slot.number);
    header.slots.push_back(std::move(slot));
  }
  header.slots_in_use = header.slots.size();
  header.digests.push_back(std::move(digest));
  Segment segment;
  segment.number = "0";
  segment.encrypted = true;
  segment.offset = std::uint64_t{be32(head, 104)} * kSector;
  segment.cipher = cipher;
  header.segments.push_back(std::move(segment));
  return header;
}

// Numbers are written as texts where they may be large.
std::optional<std::uint64_t> number_of(const JsonValue& object, std::string_view name) {
  const JsonValue* const value = object.find(name);
  if (value == nullptr) return std::nullopt;
  if (value->kind() == JsonValue::Kind::number) {
    try {
      return value->number();
    } catch (const JsonMismatch&) {
      return std::nullopt;
    }
  }
  const std::string text = object.text_of(name);
  std::uint64_t number = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (text.empty() || error != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return number;
}

Bytes from_base64(const std::string& text) {
  constexpr std::size_t kMaxText = 4096;
  if (text.empty() || text.size() > kMaxText || text.size() % 4 != 0) return {};
  std::vector<unsigned char> raw(text.size() / 4 * 3);
  std::vector<unsigned char> letters(text.begin(), text.end());
  const int length = EVP_DecodeBlock(raw.data(), letters.data(), static_cast<int>(letters.size()));
  if (length < 0) return {};
  std::size_t size = static_cast<std::size_t>(length);
  for (std::size_t i = text.size(); i-- > 0 && text[i] == '=' && size > 0;) --size;
  Bytes bytes(size);
  std::transform(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(size), bytes.begin(),
                 [](unsigned char c) { return std::byte{c}; });
  return bytes;
}

std::optional<Derivation> read_derivation(const JsonValue& object) {
  Derivation made;
  made.kind = object.text_of("type");
  made.hash = object.text_of("hash");
  made.salt = from_base64(object.text_of("salt"));
  made.rounds = number_of(object, made.kind == "pbkdf2" ? "iterations" : "time").value_or(0);
  made.memory_kib = number_of(object, "memory").value_or(0);
  made.lanes = number_of(object, "cpus").value_or(0);
  if (made.salt.empty() || made.rounds == 0) return std::nullopt;
  return made;
}

std::optional<KeySlot> read_slot(const std::string& number, const JsonValue& object) {
  const JsonValue *const spread = object.find("af"), *const area = object.find("area"),
                         *const derivation = object.find("kdf");
  if (spread == nullptr || area == nullptr || derivation == nullptr) return std::nullopt;
  const auto made = read_derivation(*derivation);
  const auto key = number_of(object, "key_size"), stripes = number_of(*spread, "stripes"),
             place = number_of(*area, "offset"), cipher_key = number_of(*area, "key_size");
  if (!made || !key || !stripes || !place || !cipher_key) return std::nullopt;
  return KeySlot{
      number,      *made, *key, *stripes, spread->text_of("hash"), area->text_of("encryption"),
      *cipher_key, *place};
}

std::vector<std::string> names_in(const JsonValue& object, std::string_view name) {
  std::vector<std::string> names;
  if (const JsonValue* const list = object.find(name))
    for (const auto& [unused, one] : list->members())
      if (one.kind() == JsonValue::Kind::text) names.push_back(one.text());
  return names;
}

std::optional<Segment> read_segment(const std::string& number, const JsonValue& object) {
  Segment segment;
  segment.number = number;
  const std::string type = object.text_of("type");
  segment.encrypted = type == "crypt";
  if (!segment.encrypted && type != "linear") return std::nullopt;
  const auto offset = number_of(object, "offset");
  if (!offset) return std::nullopt;
  segment.offset = *offset;
  if (object.text_of("size") != "dynamic") {
    segment.bytes = number_of(object, "size");
    if (!segment.bytes) return std::nullopt;
  }
  segment.iv_offset = number_of(object, "iv_tweak").value_or(0);
  segment.cipher = object.text_of("encryption");
  segment.sector_bytes = number_of(object, "sector_size").value_or(512);
  if (const JsonValue* const integrity = object.find("integrity"))
    segment.integrity = integrity->text_of("type");
  return segment;
}

// Parts that are not as the standard has them are left out.
template <typename Read>
void each_part(const JsonValue& json, std::string_view name, Header& header, const Read& read) {
  const JsonValue* const all = json.find(name);
  if (all == nullptr || !all->is_object()) {
    header.left_out.push_back(fmt::format("its list of {} is missing", name));
    return;
  }
  std::size_t count = 0;
  for (const auto& [number, object] : all->members())
    if (++count > kMaxParts || !read(number, object))
      header.left_out.push_back(fmt::format("{} {} cannot be used", name, number.substr(0, 8)));
}

void read_json(const JsonValue& json, Header& header) {
  const JsonValue* const slots = json.find("keyslots");
  if (slots != nullptr && slots->is_object()) header.slots_in_use = 0;
  each_part(json, "keyslots", header, [&](const std::string& number, const JsonValue& object) {
    // Areas for a change of the encryption are kept as slots, too.
    if (object.text_of("type") == "reencrypt") return header.being_encrypted = true;
    ++*header.slots_in_use;
    auto slot = read_slot(number, object);
    if (slot) header.slots.push_back(std::move(*slot));
    return slot.has_value();
  });
  each_part(json, "digests", header, [&](const std::string&, const JsonValue& object) {
    const auto derivation = read_derivation(object);
    if (!derivation) return false;
    header.digests.push_back({names_in(object, "keyslots"), names_in(object, "segments"),
                              *derivation, from_base64(object.text_of("digest"))});
    return true;
  });
  each_part(json, "segments", header, [&](const std::string& number, const JsonValue& object) {
    for (const std::string& flag : names_in(object, "flags"))
      if (flag.starts_with("backup-")) return true;
    auto segment = read_segment(number, object);
    if (segment) header.segments.push_back(std::move(*segment));
    return segment.has_value();
  });
  std::stable_sort(
      header.segments.begin(), header.segments.end(), [](const Segment& a, const Segment& b) {
        return std::pair(a.number.size(), a.number) < std::pair(b.number.size(), b.number);
      });
}

bool sum_fits(Bytes whole, const std::string& hash) {
  const EVP_MD* const digest = EVP_get_digestbyname(hash.c_str());
  if (digest == nullptr) return false;
  const Bytes stored(whole.begin() + kChecksumAt, whole.begin() + kChecksumAt + kChecksumBytes);
  std::fill_n(whole.begin() + kChecksumAt, kChecksumBytes, std::byte{0});
  std::array<unsigned char, EVP_MAX_MD_SIZE> made{};
  unsigned length = 0;
  if (EVP_Digest(whole.data(), whole.size(), made.data(), &length, digest, nullptr) != 1)
    return false;
  for (std::size_t i = 0; i < length; ++i)
    if (std::byte{made.at(i)} != stored.at(i)) return false;
  return length > 0;
}

std::optional<HeaderCopy> read_second_version(const ByteSource& source, std::uint64_t at,
                                              ByteView head) {
  const bool second = has_text(head, 0, kSecondMark);
  const std::uint64_t length = be64(head, 8);
  if (length < 2 * kHead || length > kMaxHeader || length % kHead != 0) return std::nullopt;
  HeaderCopy copy;
  copy.number = be64(head, 16);
  copy.own_place = second ? be64(head, 256) : 0;
  Header& header = copy.header;
  header.version = 2;
  header.label = field(head, 24, 48);
  header.uuid = field(head, 168, 40);
  header.from_copy = second;
  const Bytes whole = bytes_at(source, at, length);
  header.sum_is_right = whole.size() == length && sum_fits(whole, field(head, 72, 32));
  std::string text;
  if (whole.size() > kHead) text = text_of(slice(whole, kHead, whole.size() - kHead));
  text.resize(std::min(text.find('\0'), text.size()));
  const auto json = JsonValue::parse(text);
  if (json && json->is_object())
    read_json(*json, header);
  else
    header.left_out.emplace_back("its list of key slots is damaged");
  return copy;
}

}  // namespace

std::optional<HeaderCopy> read_header_at(const ByteSource& source, std::uint64_t at) {
  const Bytes head = bytes_at(source, at, kHead);
  if (head.size() < 1024) return std::nullopt;
  const bool first = has_text(head, 0, kMark);
  if (!first && !has_text(head, 0, kSecondMark)) return std::nullopt;
  if (first && be16(head, 6) == 1) {
    HeaderCopy copy;
    copy.header = read_first_version(head);
    return copy;
  }
  return be16(head, 6) == 2 && head.size() == kHead ? read_second_version(source, at, head)
                                                    : std::nullopt;
}

std::optional<Header> read_header(const ByteSource& source) {
  std::optional<HeaderCopy> best = read_header_at(source, 0);
  if (best && best->header.version == 1) return std::move(best->header);
  // The second lies behind the first, by its length.
  for (std::uint64_t place = 0x4000; place <= kMaxHeader; place *= 2) {
    auto copy = read_header_at(source, place);
    if (!copy || copy->own_place != place) continue;
    const auto rank = [](const HeaderCopy& one) {
      return std::tuple(one.header.sum_is_right, !one.header.slots.empty(), one.number);
    };
    if (!best || rank(*best) < rank(*copy)) best = std::move(copy);
  }
  if (!best) return std::nullopt;
  return std::move(best->header);
}

}  // namespace lantern::luks
