#include "nest/encryption.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <nlohmann/json.hpp>
#include <string_view>

#include "base/bytes.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kMostHeader = 4u << 20;
constexpr std::size_t kTextAt = 4096;

std::string in_slots(std::size_t count) {
  return count == 0
             ? "a passphrase or a key file, but no key slot of its header is in use"
             : fmt::format("a passphrase or a key file ({} in use)", counted(count, "key slot"));
}

std::optional<Encryption> luks_at(const ByteSource& volume, std::uint64_t at) {
  Bytes head(kTextAt);
  volume.read(at, head);
  if (!has_text(head, 0, "LUKS\xBA\xBE"sv) && !has_text(head, 0, "SKUL\xBA\xBE"sv))
    return std::nullopt;
  if (be16(head, 6) == 1) {
    std::size_t used = 0;
    for (std::size_t i = 0; i < 8; ++i) used += be32(head, 208 + 48 * i) == 0x00AC71F3 ? 1u : 0u;
    return Encryption{"LUKS1", in_slots(used)};
  }
  const std::uint64_t length = std::clamp<std::uint64_t>(be64(head, 8), kTextAt, kMostHeader);
  Bytes text(static_cast<std::size_t>(length - kTextAt));
  text.resize(volume.read(at + kTextAt, text).length);
  text.resize(
      static_cast<std::size_t>(std::find(text.begin(), text.end(), std::byte{0}) - text.begin()));
  const auto header = nlohmann::json::parse(text_of(text), nullptr, false);
  if (!header.is_object() || !header.contains("keyslots") || !header["keyslots"].is_object())
    return Encryption{"LUKS2", "a passphrase or a key file; its list of key slots is hurt"};
  return Encryption{"LUKS2", in_slots(header["keyslots"].size())};
}

// The start, and where a second header lies when the first is gone.
std::optional<Encryption> luks(const ByteSource& volume) {
  constexpr std::array<std::uint64_t, 10> kPlaces = {
      0, 0x4000, 0x8000, 0x10000, 0x20000, 0x40000, 0x80000, 0x100000, 0x200000, 0x400000};
  for (const std::uint64_t place : kPlaces)
    if (place < volume.size())
      if (auto found = luks_at(volume, place)) {
        if (place != 0) found->name += " (its first header is gone)";
        return found;
      }
  return std::nullopt;
}

std::string_view protector(std::uint16_t code) {
  static const std::map<std::uint16_t, std::string_view> kNames = {
      {0x0000, "a key that lies beside it in the clear (protection is paused)"},
      {0x0100, "its own computer's security chip"},
      {0x0200, "a startup key on a stick"},
      {0x0500, "its own computer's security chip and a PIN"},
      {0x0800, "a recovery key of 48 digits"},
      {0x2000, "a password"}};
  const auto found = kNames.find(code);
  return found == kNames.end() ? "a key of a kind that is not known here" : found->second;
}

std::optional<Encryption> bitlocker(const ByteSource& volume) {
  constexpr std::string_view kGuid =
      "\x3B\xD6\x67\x49\x29\x2E\xD8\x4A\x83\x99\xF6\xA3\x39\xE3\xD0\x01"sv;
  Bytes boot(512);
  volume.read(0, boot);
  const bool carried = has_text(boot, 0x1A8, kGuid);
  if (!has_text(boot, 3, "-FVE-FS-") && !carried) return std::nullopt;
  Encryption found{"BitLocker", "a recovery key of 48 digits, or what else protects it"};
  for (std::size_t copy = 0; copy < 3; ++copy) {
    Bytes block(64u << 10);
    block.resize(volume.read(le64(boot, (carried ? 0x1B8 : 0xB0) + copy * 8), block).length);
    if (block.size() < 0x200 || !has_text(block, 0, "-FVE-FS-")) continue;
    std::string wants;
    const std::size_t end =
        std::min<std::size_t>(block.size(), std::size_t{0x40} + le32(block, 0x40));
    for (std::size_t at = 0x70; at + 0x24 <= end;) {
      const std::size_t length = le16(block, at);
      if (length < 8 || length > end - at) break;
      if (le16(block, at + 2) == 2 && le16(block, at + 4) == 8) {
        const std::string_view one = protector(le16(block, at + 0x22));
        if (wants.find(one) == std::string::npos)
          wants += (wants.empty() ? "" : ", or ") + std::string(one);
      }
      at += length;
    }
    if (!wants.empty()) {
      found.wants = wants;
      break;
    }
  }
  return found;
}

}  // namespace

std::optional<Encryption> encryption_of(const ByteSource& volume) {
  if (auto found = luks(volume)) return found;
  if (auto found = bitlocker(volume)) return found;
  Bytes start(512);
  volume.read(0, start);
  if (has_text(start, 88, "CS") && le16(start, 8) == 1 && le16(start, 10) == 0x10)
    return Encryption{"CoreStorage", "the password of one of its users, or a recovery key"};
  return std::nullopt;
}

}  // namespace lantern
