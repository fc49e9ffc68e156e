// File systems of Linux and the BSDs. Offsets in bytes from the start of the volume.
//   XFS        0 "XFSB", big-endian: 4 block, 8 blocks, 32 UUID, 102 sector, 108 label, 224 CRC;
//              behind it, a sector each, "XAGF" and "XAGI"  (the kernel's documentation of XFS)
//   Btrfs      64 KiB, copies at 64 MiB and 256 GiB: 0 CRC-32C of the rest, 0x20 UUID, 0x30 own
//              place, 0x40 "_BHRfS_M", 0xC9 device: 8 its bytes, 0x12B label  (btrfs_tree.h)
//   F2FS       1024, a copy at 5120: 0 F2F52010, 20 log2 of a block, 36 blocks, 108 UUID
//   ReiserFS   64 KiB or 8 KiB: 0 blocks, 44 block, 52 "ReIsEr", 84 UUID, 100 label
//   JFS        32 KiB, a copy at 60 KiB: 0 "JFS1", 8 blocks of the device's kind, 16 block
//   NILFS2     1024: 6 3434, 20 log2 of a block - 10, 24 ..., 32 bytes, CRC-32 at 12
//   bcachefs, ZFS, OCFS2, GFS2, minix, UFS, EROFS, VMFS: mark and a few figures
//   Swap       4096 - 10 "SWAPSPACE2", 1024: version 1, 4 last page  (mkswap(8))
// Sources: the Linux kernel's headers and documentation of each.
#include <libdeflate.h>

#include "base/checked.h"
#include "base/crc32c.h"
#include "base/guid.h"
#include "format/named/named.h"
#include "format/partition_guids.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kKiB = 1024;
constexpr std::uint64_t kMiB = 1024 * kKiB;

std::string plain_uuid(ByteView bytes, std::size_t at) {
  const ByteView u = slice(bytes, at, 16);
  std::string text;
  for (std::size_t i = 0; i < 16; ++i)
    text += fmt::format("{}{:02x}", i == 4 || i == 6 || i == 8 || i == 10 ? "-" : "", u8(u, i));
  return text;
}

std::string text_until_zero(ByteView bytes, std::size_t at, std::size_t length) {
  const std::string text = text_of(slice(bytes, at, length));
  return text.substr(0, text.find('\0'));
}

// Its first header sector is lost: the free-space header behind it tells.
std::optional<Recognition> xfs_without_start(const ByteSource& source, std::uint64_t at) {
  for (const std::uint64_t sector : {kSector, 4 * kKiB, kKiB, 2 * kKiB}) {
    if (at < sector || be32(read_whole(source, at, kSector), 8) != 0 ||
        !has_text(read_whole(source, at + sector, kSector), 0, "XAGI"))
      continue;
    if (has_text(read_whole(source, at - sector, kSector), 0, "XFSB")) return std::nullopt;
    auto found = begins(at, sector, "XFS");
    found->verified = true;
    found->from_copy = true;
    return found;
  }
  return std::nullopt;
}

std::optional<Recognition> xfs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, 4 * kKiB);
  if (has_text(super, 0, "XAGF")) return xfs_without_start(source, at);
  const std::uint64_t block = be32(super, 4), sector = be16(super, 102);
  if (!is_power_of_two(block) || block < kSector || block > 64 * kKiB || !is_power_of_two(sector) ||
      sector < kSector || sector > block)
    return std::nullopt;
  const Bytes header = read_whole(source, at + sector, kSector);
  // Each group of blocks begins with a copy; the header behind it says which group it is.
  if (has_text(header, 0, "XAGF") && be32(header, 8) != 0) return std::nullopt;
  auto found = begins(at, 0, "XFS");
  found->range.length = saturating_mul(be64(super, 8), block);
  found->uuid = plain_uuid(super, 32);
  found->label = text_until_zero(super, 108, 12);
  found->verified = has_text(header, 0, "XAGF") ||
                    (sector <= super.size() &&
                     crc32c_without(ByteView(super).first(static_cast<std::size_t>(sector)), 224) ==
                         le32(super, 224));
  return found;
}

std::optional<Recognition> btrfs(const ByteSource& source, std::uint64_t at) {
  constexpr std::size_t kDevice = 0xC9;
  const Bytes super = read_whole(source, at, 4 * kKiB);
  const std::uint64_t own = le64(super, 0x30);
  if (own != 64 * kKiB && own != 64 * kMiB && own != 256 * kKiB * kMiB) return std::nullopt;
  auto found = begins(at, own, "Btrfs");
  if (!found) return std::nullopt;
  if (own != 64 * kKiB &&
      has_text(read_whole(source, found->range.offset + 64 * kKiB + 64, kSector), 0, "_BHRfS_M"))
    return std::nullopt;
  found->range.length = le64(super, kDevice + 8);
  found->uuid = plain_uuid(super, 0x20);
  found->label = text_until_zero(super, 0x12B, 256);
  found->verified = crc32c(ByteView(super).subspan(32)) == le32(super, 0);
  found->from_copy = own != 64 * kKiB;
  found->set_id = found->uuid;
  return found;
}

std::optional<Recognition> f2fs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, 4 * kKiB - kKiB);
  const std::uint32_t shift = le32(super, 16), sector_shift = le32(super, 8);
  if (shift < 9 || shift > 16 || sector_shift < 9 || sector_shift > shift) return std::nullopt;
  // The copy stands a block behind.
  const bool copy =
      at >= 5 * kKiB && le32(read_whole(source, at - 4 * kKiB, kSector), 0) == le32(super, 0);
  if (copy) return std::nullopt;
  const bool lost = at % (4 * kKiB) == kKiB && at >= 5 * kKiB && le32(super, 36) != 0 &&
                    (at / (4 * kKiB)) % 256 != 0;
  auto found = begins(at, lost ? 5 * kKiB : kKiB, "F2FS");
  if (!found) return std::nullopt;
  found->range.length = saturating_mul(le64(super, 36), std::uint64_t{1} << shift);
  found->uuid = plain_uuid(super, 108);
  found->verified = le64(super, 36) != 0 && le32(super, 20) == 9 && le16(super, 4) == 1;
  found->from_copy = lost;
  return found;
}

std::optional<Recognition> reiserfs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kSector);
  const bool fourth = has_text(super, 0, "ReIsEr4");
  for (const std::uint64_t back : {64 * kKiB, 8 * kKiB}) {
    auto found = begins(at, back, fourth ? "Reiser4" : "ReiserFS");
    if (!found) continue;
    if (fourth) return found;
    const std::uint64_t block = le16(super, 44), blocks = le32(super, 0);
    if (!is_power_of_two(block) || block < kSector || block > 8 * kKiB || blocks == 0)
      return std::nullopt;
    // Which of the two places it is: its own tree root and its free blocks lie behind it.
    if (back == 64 * kKiB && at < 64 * kKiB) continue;
    found->range.length = blocks * block;
    found->uuid = plain_uuid(super, 84);
    found->label = text_until_zero(super, 100, 16);
    found->verified = le32(super, 4) <= blocks && le32(super, 8) < blocks;
    return found;
  }
  return std::nullopt;
}

std::optional<Recognition> jfs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kSector);
  const std::uint64_t block = le32(super, 16), device_block = le32(super, 24);
  if (!is_power_of_two(block) || block < kSector || block > 4 * kKiB || device_block == 0)
    return std::nullopt;
  const bool copy =
      at >= 60 * kKiB && has_text(read_whole(source, at - 28 * kKiB, kSector), 0, "JFS1");
  if (copy) return std::nullopt;
  auto found = begins(at, 32 * kKiB, "JFS");
  if (!found) return std::nullopt;
  found->range.length = saturating_mul(le64(super, 8), device_block);
  found->verified = has_text(read_whole(source, at + 28 * kKiB, kSector), 0, "JFS1");
  found->uuid = plain_uuid(super, 136);
  return found;
}

std::optional<Recognition> nilfs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kKiB);
  const std::uint32_t length = le16(super, 8), shift = le32(super, 20);
  if (length < 256 || length > super.size() || shift > 6) return std::nullopt;
  Bytes summed(super.begin(), super.begin() + length);
  const std::uint32_t stored = le32(super, 16), seed = le32(super, 12);
  std::fill_n(summed.begin() + 16, 4, std::byte{0});
  auto found = begins(at, kKiB, "NILFS2");
  if (!found) return std::nullopt;
  // The same sum as everywhere, begun from a seed and not inverted.
  found->verified = ~libdeflate_crc32(~seed, summed.data(), summed.size()) == stored;
  found->range.length = le64(super, 32);
  found->uuid = plain_uuid(super, 152);
  return found->verified ? found : std::nullopt;
}

std::optional<Recognition> swap(const ByteSource& source, std::uint64_t at) {
  for (const std::uint64_t page : {4 * kKiB, 64 * kKiB, 16 * kKiB, 8 * kKiB}) {
    if (at + kSector < page) continue;
    const std::uint64_t start = at + kSector - page;
    const Bytes header = read_whole(source, start + kKiB, kSector);
    const std::uint64_t last = le32(header, 4);
    if (le32(header, 0) != 1 || last == 0) continue;
    auto found = begins(start, 0, "Linux swap");
    found->range.length = (last + 1) * page;
    found->uuid = plain_uuid(header, 12);
    found->label = text_until_zero(header, 28, 16);
    // Behind the figures of a fresh one there is nothing.
    found->verified = le32(header, 8) == 0 && all_zero(slice(header, 44, 400));
    return found;
  }
  return std::nullopt;
}

std::optional<Recognition> zfs(const ByteSource& source, std::uint64_t at) {
  constexpr std::uint64_t kListAt = 16 * kKiB, kListBytes = 112 * kKiB;
  constexpr std::uint64_t kTailMark = 0x0210DA7AB10C7A11;
  auto found = begins(at, kListAt, "ZFS pool member");
  if (!found) return std::nullopt;
  const Bytes tail = read_whole(source, found->range.offset + kListAt + kListBytes - 40, 40);
  if (le64(tail, 0) != kTailMark && be64(tail, 0) != kTailMark) return std::nullopt;
  found->verified = true;
  return found;
}

std::optional<Recognition> bcachefs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kSector);
  // A cache device and a file system share the place; the field behind the sum tells.
  const bool cache = le64(super, 8) == 8;
  auto found = begins(at, 4 * kKiB, cache ? "bcache device" : "bcachefs");
  if (found) found->verified = true;
  return found;
}

std::optional<Recognition> ocfs2(const ByteSource&, std::uint64_t at) {
  for (const std::uint64_t back : {4 * kKiB, 2 * kKiB, kKiB})
    if (at % (2 * back) == 0 && at >= 2 * back) return begins(at, 2 * back, "OCFS2");
  return std::nullopt;
}

std::optional<Recognition> gfs2(const ByteSource& source, std::uint64_t at) {
  if (be32(read_whole(source, at, kSector), 4) != 1) return std::nullopt;
  return begins(at, 64 * kKiB, "GFS2");
}

std::optional<Recognition> minix(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kSector);
  const bool third = le16(super, 24) == 0x4D5A;
  const std::uint64_t zones = third ? le32(super, 20) : le16(super, 2);
  const std::uint64_t inodes = third ? le32(super, 0) : le16(super, 0);
  const std::uint64_t maps = le16(super, third ? 6 : 4), zone_maps = le16(super, third ? 8 : 6);
  if (inodes == 0 || maps == 0 || zone_maps == 0 || maps > 1024 || zone_maps > 1024)
    return std::nullopt;
  auto found = begins(at, kKiB, "minix");
  if (!found) return std::nullopt;
  found->range.length = third ? zones * le16(super, 28) : zones * kKiB;
  found->verified = maps == divide_up(inodes + 1, 8 * kKiB);
  return found->verified ? found : std::nullopt;
}

std::optional<Recognition> ufs(const ByteSource&, std::uint64_t at) {
  for (const std::uint64_t back : {64 * kKiB, 8 * kKiB})
    if (at >= back + kKiB) return begins(at, back + kKiB, "UFS");
  return std::nullopt;
}

std::optional<Recognition> erofs(const ByteSource& source, std::uint64_t at) {
  const Bytes super = read_whole(source, at, kSector);
  if (u8(super, 12) < 9 || u8(super, 12) > 16) return std::nullopt;
  auto found = begins(at, kKiB, "EROFS");
  if (found) found->range.length = std::uint64_t{le32(super, 36)} << u8(super, 12);
  return found;
}

std::optional<Recognition> vmfs(const ByteSource&, std::uint64_t at) {
  auto found = begins(at, kMiB, "VMFS");
  if (found) found->verified = true;
  return found;
}

}  // namespace

std::vector<Format> file_systems() {
  const auto at = [](std::initializer_list<std::uint64_t> offsets) {
    std::vector<FormatPlace> places;
    for (const std::uint64_t offset : offsets) places.push_back({offset});
    return places;
  };
  const FormatKind files = FormatKind::file_system;
  return {
      {"xfs", files, {{0, "XFSB"sv}, {0, "XAGF"sv}}, at({0, 512, 4096}), xfs},
      {"btrfs", files, {{64, "_BHRfS_M"sv}}, at({64 * kKiB, 64 * kMiB, 256 * kKiB * kMiB}), btrfs},
      {"f2fs", files, {{0, "\x10\x20\xF5\xF2"sv}}, at({kKiB, 5 * kKiB}), f2fs},
      {"reiserfs",
       files,
       {{52, "ReIsErFs"sv}, {52, "ReIsEr2F"sv}, {52, "ReIsEr3F"sv}, {0, "ReIsEr4"sv}},
       at({64 * kKiB, 8 * kKiB}),
       reiserfs},
      {"jfs", files, {{0, "JFS1"sv}}, at({32 * kKiB}), jfs},
      {"nilfs2", files, {{6, "\x34\x34"sv}}, at({kKiB}), nilfs},
      {"swap",
       FormatKind::swap,
       {{502, "SWAPSPACE2"sv}, {502, "S1SUSPEND\0"sv}},
       at({4096 - kSector, 65536 - kSector}),
       swap,
       false,
       nullptr,
       false,
       {},
       {{{}, 0x82, 0x82, {}, {partition_guid::kLinuxSwap}}}},
      {"zfs", files, {{0, "\x01\x01\0\0\0\0\0\0\0\0\0\x01"sv}}, at({16 * kKiB}), zfs},
      {"bcache",
       files,
       {{24, "\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81"sv},
        {24, "\xC6\x85\x73\xF6\x66\xCE\x90\xA9\xD9\x6A\x60\xCF\x80\x3D\xF7\xEF"sv}},
       at({4 * kKiB}),
       bcachefs},
      {"ocfs2", files, {{0, "OCFSV2"sv}}, at({2 * kKiB, 4 * kKiB, 8 * kKiB}), ocfs2},
      {"gfs2", files, {{0, "\x01\x16\x19\x70"sv}}, at({64 * kKiB}), gfs2},
      {"minix",
       files,
       {{16, "\x7F\x13"sv},
        {16, "\x8F\x13"sv},
        {16, "\x68\x24"sv},
        {16, "\x78\x24"sv},
        {24, "\x5A\x4D"sv}},
       at({kKiB}),
       minix},
      {"ufs",
       files,
       {{348, "\x54\x19\x01\x00"sv}, {348, "\x19\x01\x54\x19"sv}},
       at({8 * kKiB + kKiB, 64 * kKiB + kKiB}),
       ufs},
      {"erofs", files, {{0, "\xE2\xE1\xF5\xE0"sv}}, at({kKiB}), erofs},
      {"vmfs", files, {{0, "\x0D\xD0\x01\xC0"sv}}, at({kMiB}), vmfs},
  };
}

}  // namespace lantern::named
