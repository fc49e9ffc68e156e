// Encrypted volumes that are recognised and not read, and what opens each. Offsets in bytes.
//   BitLocker: 3 "-FVE-FS-" (or "MSWIN4.1" on what is carried about, with its GUID at 0x1A8)
//     0xB0 three places of its metadata (0x1B8 there), 8 each: block 0 "-FVE-FS-", 0x40 4 length
//     0x70 entries: 0 2 length 2 2 type (2: a key) 4 2 kind (8: a volume's key)
//       of such a key: 0x22 2 what protects it
//   CoreStorage: 8 2 version 1  0x0A 2 kind of block 10  0x58 "CS"
//   GELI: last sector 0 "GEOM::ELI"
// Sources: public descriptions of the formats, which have no specification.
#include <algorithm>
#include <array>
#include <map>
#include <string_view>

#include "format/named/named.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

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
  return {
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
