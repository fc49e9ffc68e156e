// Encrypted volumes, and what opens each. Nothing is opened here. Offsets in bytes.
//   LUKS: 0 "LUKS" BA BE  6 2 version, big-endian; of a second copy 0 "SKUL" BA BE
//     1: 8 32 cipher  72 32 hash  104 4 payload (sectors)  108 4 key bytes  168 40 UUID
//        208 eight slots of 48: 0 4 00AC71F3 in use
//     2: 8 8 length of the header, big-endian  24 48 label  72 32 its checksum's name
//        168 40 UUID  256 8 own place  448 64 checksum; behind its first 4096 a text with
//        "keyslots"
//   BitLocker: 3 "-FVE-FS-" (or "MSWIN4.1" on what is carried about, with its GUID at 0x1A8)
//     0xB0 three places of its metadata (0x1B8 there), 8 each: block 0 "-FVE-FS-", 0x40 4 length
//     0x70 entries: 0 2 length 2 2 type (2: a key) 4 2 kind (8: a volume's key)
//       of such a key: 0x22 2 what protects it
//   CoreStorage: 8 2 version 1  0x0A 2 kind of block 10  0x58 "CS"
//   GELI: last sector 0 "GEOM::ELI"
// Sources: LUKS On-Disk Format Specification, 1.2.3 and 2; for the others, which have none, public
// descriptions of their formats.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <string_view>

#include "base/json_reader.h"
#include "base/sha256.h"
#include "format/named/named.h"
#include "lantern/text.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kMaxHeader = 4u << 20;
constexpr std::size_t kTextAt = 4096;
constexpr std::size_t kChecksumAt = 448;

std::string in_slots(std::size_t count) {
  return count == 0
             ? "a passphrase or a key file, but no key slot of its header is in use"
             : fmt::format("a passphrase or a key file ({} in use)", counted(count, "key slot"));
}

std::string field(ByteView head, std::size_t at, std::size_t length) {
  const std::string text = text_of(slice(head, at, length));
  return text.substr(0, text.find('\0'));
}

Recognition luks1(ByteView head, std::uint64_t at) {
  auto found = *begins(at, 0, "LUKS1");
  found.format = "luks1";
  std::size_t used = 0;
  for (std::size_t i = 0; i < 8; ++i) used += be32(head, 208 + 48 * i) == 0x00AC71F3 ? 1u : 0u;
  found.required_key = in_slots(used);
  found.uuid = field(head, 168, 40);
  const std::uint32_t key_bytes = be32(head, 108);
  found.verified = key_bytes >= 16 && key_bytes <= 512 && u8(head, 8) != 0 && u8(head, 72) != 0;
  return found;
}

std::optional<Recognition> luks(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, kTextAt);
  const bool second = has_text(head, 0, "SKUL");
  const unsigned version = be16(head, 6);
  if (version == 1 && !second) return luks1(head, at);
  if (version != 2) return std::nullopt;
  auto found = begins(at, second ? be64(head, 256) : 0,
                      second ? "LUKS2 (its first header is lost)" : "LUKS2");
  if (!found) return std::nullopt;
  if (second && has_text(read_whole(source, found->range.offset, 512), 0, "LUKS\xBA\xBE"))
    return std::nullopt;
  found->format = "luks2";
  found->from_copy = second;
  found->uuid = field(head, 168, 40);
  found->label = field(head, 24, 48);
  const std::uint64_t length = std::clamp<std::uint64_t>(be64(head, 8), kTextAt, kMaxHeader);
  Bytes whole(static_cast<std::size_t>(length));
  whole.resize(source.read(at, whole).length);
  const std::string stored = text_of(slice(head, kChecksumAt, 32));
  if (whole.size() >= kTextAt) {
    std::fill_n(whole.begin() + kChecksumAt, 64, std::byte{0});
    std::string hex;
    for (const char c : stored) hex += fmt::format("{:02x}", static_cast<unsigned char>(c));
    found->verified = sha256_hex(text_of(whole)) == hex;
  }
  Bytes text(whole.begin() + static_cast<std::ptrdiff_t>(std::min(whole.size(), kTextAt)),
             whole.end());
  text.resize(
      static_cast<std::size_t>(std::find(text.begin(), text.end(), std::byte{0}) - text.begin()));
  const auto header = JsonValue::parse(text_of(text));
  const JsonValue* const slots = header ? header->find("keyslots") : nullptr;
  if (slots == nullptr || !slots->is_object()) {
    found->required_key = "a passphrase or a key file; its list of key slots is damaged";
    return found;
  }
  found->required_key = in_slots(slots->size());
  return found;
}

std::string_view protector(std::uint16_t code) {
  static const std::map<std::uint16_t, std::string_view> kNames = {
      {0x0000, "a key that is stored beside it unencrypted (protection is paused)"},
      {0x0100, "its own computer's security chip"},
      {0x0200, "a startup key on a stick"},
      {0x0500, "its own computer's security chip and a PIN"},
      {0x0800, "a recovery key of 48 digits"},
      {0x2000, "a password"}};
  const auto found = kNames.find(code);
  return found == kNames.end() ? "a key of a kind that is not known here" : found->second;
}

std::optional<Recognition> bitlocker(const ByteSource& source, std::uint64_t at) {
  constexpr std::string_view kGuid =
      "\x3B\xD6\x67\x49\x29\x2E\xD8\x4A\x83\x99\xF6\xA3\x39\xE3\xD0\x01"sv;
  const Bytes boot = read_whole(source, at, 512);
  const bool carried = has_text(boot, 0x1A8, kGuid);
  if (!has_text(boot, 3, "-FVE-FS-") && !carried) return std::nullopt;
  auto found = begins(at, 0, "BitLocker");
  found->required_key = "a recovery key of 48 digits, or what else protects it";
  for (std::size_t copy = 0; copy < 3; ++copy) {
    const std::uint64_t place = le64(boot, (carried ? 0x1B8 : 0xB0) + copy * 8);
    Bytes block(64u << 10);
    if (place > ~std::uint64_t{0} - at) continue;
    block.resize(source.read(at + place, block).length);
    if (block.size() < 0x200 || !has_text(block, 0, "-FVE-FS-")) continue;
    found->verified = true;
    std::string keys;
    const std::size_t end =
        std::min<std::size_t>(block.size(), std::size_t{0x40} + le32(block, 0x40));
    for (std::size_t entry = 0x70; entry + 0x24 <= end;) {
      const std::size_t length = le16(block, entry);
      if (length < 8 || length > end - entry) break;
      if (le16(block, entry + 2) == 2 && le16(block, entry + 4) == 8) {
        const std::string_view one = protector(le16(block, entry + 0x22));
        if (keys.find(one) == std::string::npos)
          keys += (keys.empty() ? "" : ", or ") + std::string(one);
      }
      entry += length;
    }
    if (!keys.empty()) {
      found->required_key = keys;
      break;
    }
  }
  return found;
}

std::optional<Recognition> core_storage(const ByteSource& source, std::uint64_t at) {
  const Bytes start = read_whole(source, at, 512);
  if (le16(start, 8) != 1 || le16(start, 10) != 0x10) return std::nullopt;
  auto found = begins(at, 0, "CoreStorage");
  found->verified = true;
  found->required_key = "the password of one of its users, or a recovery key";
  return found;
}

std::optional<Recognition> geli(const ByteSource& source, std::uint64_t at) {
  if (source.size() - at > 4096) return std::nullopt;
  auto found = begins(0, 0, "GELI");
  found->range.length = at + 512;
  found->verified = true;
  found->required_key = "a passphrase or a key file";
  return found;
}

}  // namespace

std::vector<Format> encrypted() {
  constexpr FormatKind kKind = FormatKind::encryption;
  // Where a second LUKS2 header lies, by the length of the first.
  std::vector<FormatPlace> headers = {{0}};
  for (std::uint64_t place = 0x4000; place <= 0x400000; place *= 2) headers.push_back({place});
  return {
      {"luks", kKind, {{0, "LUKS\xBA\xBE"sv}, {0, "SKUL\xBA\xBE"sv}}, headers, luks},
      {"bitlocker",
       kKind,
       {{3, "-FVE-FS-"sv}, {0x1A8, "\x3B\xD6\x67\x49\x29\x2E\xD8\x4A"sv}},
       {{0}},
       bitlocker},
      {"corestorage", kKind, {{88, "CS"sv}}, {{0}}, core_storage},
      {"geli", kKind, {{0, "GEOM::ELI"sv}}, {{512, true}, {4096, true, 4096}}, geli},
  };
}

}  // namespace lantern::named
