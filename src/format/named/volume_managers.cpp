// Volume managers and arrays made by the system itself. Offsets in bytes.
//   LVM physical volume  label in one of sectors 0 to 3: 0 "LABELONE", 8 own sector, 16 sum, 20
//                        offset of the header, 24 "LVM2 001"; header: 0 id (32 letters), 32 bytes
//                        metadata area, usually at 4096: 4 " LVM2 x[5A%r0N*>", 24 own place
//   LVM 1                0 "HM\1\0"
//   Linux array, 1.x     at 0 (1.1), 4096 (1.2), before the end (1.0): 0 A92B4EFC, 4 version 1,
//                        16 id of the set, 32 its name, 72 level, 128 start and 136 length of data,
//                        144 own place (sectors), 160 number of the device, 216 CRC, 220 most
//                        devices, 256 role of each
//   Linux array, 0.90    64 KiB before the end, aligned to that, in either byte order:
//                        0 A92B4EFC, 4 version 0, 8 90, 20 id, 28 level, 32 KiB in use, 152 sum,
//                        3968 this device: 8 number, 12 role
//   Dynamic disk         sector 6 "PRIVHEAD"      Storage pool  0 "SPACEDB "
// Sources: the Linux kernel's headers md_p.h; LVM2's documentation of its on-disk format.
#include <fmt/format.h>
#include <libdeflate.h>

#include "base/checked.h"
#include "format/named/named.h"
#include "format/partition_guids.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kMaxSectors = 1ull << 52;

std::string hex_of(ByteView bytes) {
  std::string text;
  for (const std::byte b : bytes) text += fmt::format("{:02x}", std::to_integer<unsigned>(b));
  return text;
}

// The physical volume's metadata text begins with the group's name.
void add_group(const ByteSource& source, std::uint64_t start, Recognition& found) {
  constexpr std::uint64_t kAreaAt = 4096;
  const Bytes area = read_whole(source, start + kAreaAt, kSector);
  if (!has_text(area, 4, " LVM2 x[5A%r0N*>")) return;
  const std::uint64_t at = le64(area, 40);
  if (at < kSector || at > (16u << 20)) return;
  const std::string text = text_of(read_whole(source, start + kAreaAt + at, 4096));
  const std::size_t name_end = text.find(" {");
  if (name_end > 128) return;  // npos, too
  found.detail = "group " + text.substr(0, name_end);
  const std::size_t id = text.find("id = \"");
  if (id != std::string::npos) found.set_id = text.substr(id + 6, text.find('"', id + 6) - id - 6);
}

std::optional<Recognition> lvm(const ByteSource& source, std::uint64_t at) {
  constexpr std::uint32_t kSeed = 0xF597A6CF;
  const Bytes label = read_whole(source, at, kSector);
  if (has_text(label, 4, " LVM2 x[5A%r0N*>")) {
    // The metadata area, where the label is lost.
    auto found = begins(at, le64(label, 24), "LVM physical volume");
    if (!found || le64(label, 24) > (1u << 20)) return std::nullopt;
    for (std::uint64_t sector = 0; sector < 4; ++sector)
      if (has_text(read_whole(source, found->range.offset + sector * kSector, kSector), 0,
                   "LABELONE"))
        return std::nullopt;
    found->verified = ~libdeflate_crc32(~kSeed, &label[4], kSector - 4) == le32(label, 0);
    found->from_copy = true;
    add_group(source, found->range.offset, *found);
    return found;
  }
  const std::uint64_t number = le64(label, 8);
  const std::uint32_t header = le32(label, 20);
  if (!has_text(label, 24, "LVM2 001") || number > 3 || header < 32 || header > kSector - 40)
    return std::nullopt;
  auto found = begins(at, number * kSector, "LVM physical volume");
  if (!found) return std::nullopt;
  // The same sum as everywhere, begun from a seed and not inverted.
  found->verified = ~libdeflate_crc32(~kSeed, &label[20], kSector - 20) == le32(label, 16);
  found->range.length = le64(label, header + 32);
  found->uuid = text_of(slice(label, header, 32));
  add_group(source, found->range.offset, *found);
  return found;
}

std::optional<Recognition> lvm1(const ByteSource&, std::uint64_t at) {
  return begins(at, 0, "LVM physical volume (version 1)");
}

std::string level_text(std::int32_t level) {
  if (level == -1) return "linear";
  return level >= 0 ? fmt::format("RAID {}", level) : fmt::format("level {}", level);
}

std::uint32_t sum_of_words(ByteView bytes, std::size_t without, bool big) {
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i + 4 <= bytes.size(); i += 4)
    if (i != without) sum += big ? be32(bytes, i) : le32(bytes, i);
  for (std::size_t i = bytes.size() / 4 * 4; i + 2 <= bytes.size(); i += 2) sum += le16(bytes, i);
  return static_cast<std::uint32_t>(sum + (sum >> 32));
}

std::optional<Recognition> array_now(const ByteSource& source, std::uint64_t at) {
  constexpr std::uint32_t kMaxDevices = 1920;
  const Bytes super = read_whole(source, at, 256);
  const std::uint64_t own = le64(super, 144), data = le64(super, 128), length = le64(super, 136);
  const std::uint32_t devices = le32(super, 220);
  if (own > kMaxSectors || data > kMaxSectors || length > kMaxSectors || devices > kMaxDevices)
    return std::nullopt;
  auto found = begins(at, own * kSector, "Linux array member");
  if (!found) return std::nullopt;
  const Bytes whole = read_whole(source, at, 256 + std::size_t{2} * devices);
  found->verified = sum_of_words(whole, 216, false) == le32(super, 216);
  found->range.length = std::max(own * kSector + 4096, (data + length) * kSector);
  found->set_id = hex_of(slice(super, 16, 16));
  const std::uint32_t number = le32(super, 160);
  if (number < devices) found->slot = le16(whole, 256 + std::size_t{2} * number);
  std::string name = text_of(slice(super, 32, 32));
  name = name.substr(0, name.find('\0'));
  // A maker without a name of its own.
  if (name.starts_with("(none):")) name = name.substr(7);
  found->detail = fmt::format(
      "{}, {} devices", level_text(static_cast<std::int32_t>(le32(super, 72))), le32(super, 92));
  if (!name.empty()) found->detail += ", set " + name;
  return found;
}

std::optional<Recognition> array_of_old(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, 4096);
  const bool big = be32(super, 0) == 0xA92B4EFC;
  const auto word = [&](std::size_t offset) {
    return big ? be32(super, offset) : le32(super, offset);
  };
  if (word(4) != 0 || word(8) != 90 || word(40) > 27) return std::nullopt;
  Recognition found;
  found.title = "Linux array member";
  // It does not say where the member begins: with what is asked.
  found.range = {0, at + 65536};
  found.verified = sum_of_words(super, 152, big) == word(152);
  found.set_id = hex_of(slice(super, 20, 4)) + hex_of(slice(super, 52, 12));
  found.slot = word(3968 + 12);
  found.detail = fmt::format("{}, {} devices, metadata 0.90",
                             level_text(static_cast<std::int32_t>(word(28))), word(40));
  return found;
}

std::optional<Recognition> array(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kSector);
  return le32(super, 0) == 0xA92B4EFC && le32(super, 4) == 1 ? array_now(source, at)
                                                             : array_of_old(source, at);
}

std::optional<Recognition> dynamic_disk(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, kSector);
  if (at != 6 * kSector || be16(head, 12) != 2) return std::nullopt;
  auto found = begins(at, at, "dynamic disk");
  found->verified = true;
  found->set_id = text_of(slice(head, 0xB0, 36));
  return found;
}

std::optional<Recognition> storage_pool(const ByteSource&, std::uint64_t at) {
  auto found = begins(at, 0, "storage pool member");
  found->verified = true;
  return found;
}

}  // namespace

std::vector<Format> volume_managers() {
  std::vector<Format> all = {
      {"lvm",
       FormatKind::volume_manager,
       {{0, "LABELONE"sv}, {4, " LVM2 x[5A%r0N*>"sv}},
       {{0}, {512}, {1024}, {1536}, {4096}},
       lvm},
      {"lvm1", FormatKind::volume_manager, {{0, "HM\x01\0"sv}}, {{0}}, lvm1},
      {"md",
       FormatKind::array,
       {{0, "\xFC\x4E\x2B\xA9"sv}, {0, "\xA9\x2B\x4E\xFC"sv}},
       // 1.0 lies 8 KiB before the end, on a boundary of 4 KiB; 0.90 in the last 64 KiB but one.
       {{0}, {4096}, {8192, true, 4096}, {65536, true, 65536}},
       array},
      {"ldm", FormatKind::volume_manager, {{0, "PRIVHEAD"sv}}, {{6 * kSector}}, dynamic_disk},
      {"storage-pool", FormatKind::volume_manager, {{0, "SPACEDB "sv}}, {{0}}, storage_pool},
  };
  for (Format& format : all) {
    if (format.name == "lvm") format.codes = {{{}, 0x8E, 0x8E, {}, {partition_guid::kLinuxGroup}}};
    if (format.name == "md") format.codes = {{{}, 0xFD, 0xFD, {}, {partition_guid::kLinuxArray}}};
  }
  return all;
}

}  // namespace lantern::named
