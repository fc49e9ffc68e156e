// File systems of other systems, of discs and of read-only images. Offsets in bytes.
//   HFS+       1024, a copy 1024 before the end: 0 "H+" or "HX", 2 version 4 or 5, 40 block,
//              44 blocks, big-endian  (Apple's technical note 1150)
//   HFS        1024: 0 "BD", 18 blocks, 20 block, big-endian
//   APFS       32 "NXSB", 36 block, 40 blocks, 0 Fletcher-64 of the rest of the block
//   ISO 9660   32 KiB: 1 "CD001", 80 blocks, 128 block  (ECMA-119)
//   UDF        32 KiB and sectors of 2048 behind it: 1 "BEA01", 1 "NSR02" or "NSR03"  (ECMA-167)
//   ReFS       3 "ReFS", 20 "FSRS", 24 sectors, 32 bytes of a sector
//   Squashfs   0 "hsqs", 40 bytes    cramfs 0 28CD3D45, 4 bytes    romfs 0 "-rom1fs-", 8 bytes
//   UBIFS      0 06101831, 20 kind 6, 36 bytes of a block, 40 blocks    UBI 0 "UBI#", 4 version
//   JFFS2      nodes: 0 1985, 2 kind, 4 bytes    BFS 0 1BADFACE, 4 first byte, 8 last byte of files
#include "base/checked.h"
#include "format/named/named.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kKiB = 1024;

bool is_hfs_plus(ByteView header) {
  return (has_text(header, 0, "H+") || has_text(header, 0, "HX")) &&
         (be16(header, 2) == 4 || be16(header, 2) == 5) && is_power_of_two(be32(header, 40)) &&
         be32(header, 40) >= 512;
}

std::optional<Recognition> hfs_plus(const ByteSource& source, std::uint64_t at) {
  const Bytes header = read_whole(source, at, 512);
  if (!is_hfs_plus(header)) return std::nullopt;
  const std::uint64_t length = saturating_mul(be32(header, 44), be32(header, 40));
  const auto first = begins(at, kKiB, "HFS+");
  if (first && length >= 2 * kKiB && first->range.offset + length - kKiB > at &&
      is_hfs_plus(read_whole(source, first->range.offset + length - kKiB, 512))) {
    auto found = first;
    found->range.length = length;
    found->verified = true;
    return found;
  }
  // The copy before the end, where the first is lost.
  if (length >= 2 * kKiB && at + kKiB >= length) {
    auto found = begins(at + kKiB, length, "HFS+");
    if (found && !is_hfs_plus(read_whole(source, found->range.offset + kKiB, 512)) &&
        at + 5 * kKiB >= source.size()) {
      found->range.length = length;
      found->from_copy = true;
      found->verified = be32(header, 44) > 0 && be32(header, 48) <= be32(header, 44);
      return found;
    }
  }
  auto found = first;
  if (!found) return std::nullopt;
  found->range.length = length;
  // Free blocks no more than there are; the sizes of its catalog's file fit the blocks they take.
  found->verified =
      be32(header, 48) <= be32(header, 44) && be32(header, 44) > 0 && be32(header, 272 + 12) > 0;
  return found;
}

std::optional<Recognition> hfs(const ByteSource& source, std::uint64_t at) {
  const Bytes header = read_whole(source, at, 512);
  const std::uint64_t block = be32(header, 20), blocks = be16(header, 18);
  if (block == 0 || block % 512 != 0 || blocks == 0) return std::nullopt;
  auto found = begins(at, kKiB, "HFS");
  if (!found) return std::nullopt;
  found->range.length = std::uint64_t{be16(header, 28)} * 512 + blocks * block + kKiB;
  found->verified = u8(header, 36) >= 1 && u8(header, 36) <= 27 && be16(header, 34) <= blocks;
  return found->verified ? found : std::nullopt;
}

std::optional<Recognition> apfs(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, 512);
  const std::uint64_t block = le32(head, 36);
  if (!is_power_of_two(block) || block < 4 * kKiB || block > 64 * kKiB) return std::nullopt;
  auto found = begins(at, 0, "APFS");
  found->range.length = saturating_mul(le64(head, 40), block);
  const Bytes whole = read_whole(source, at, static_cast<std::size_t>(block));
  std::uint64_t low = 0, high = 0;
  for (std::size_t i = 8; i + 4 <= whole.size(); i += 4) {
    low = (low + le32(whole, i)) % 0xFFFFFFFF;
    high = (high + low) % 0xFFFFFFFF;
  }
  const std::uint64_t first = 0xFFFFFFFF - (low + high) % 0xFFFFFFFF;
  const std::uint64_t second = 0xFFFFFFFF - (low + first) % 0xFFFFFFFF;
  found->verified = (second << 32 | first) == le64(head, 0);
  return found;
}

// Whether one of a disc's first descriptors says UDF; those of ISO 9660 may come before it.
std::optional<Recognition> udf(const ByteSource& source, std::uint64_t at) {
  constexpr std::uint64_t kBlock = 2 * kKiB;
  constexpr std::size_t kMaxDescriptors = 64;
  auto found = begins(at, 32 * kKiB, "UDF");
  if (!found) return std::nullopt;
  for (std::size_t i = 0; i < kMaxDescriptors; ++i) {
    const Bytes next = read_whole(source, at + i * kBlock, 16);
    if (has_text(next, 1, "NSR02") || has_text(next, 1, "NSR03")) {
      found->verified = true;
      return found;
    }
    if (!has_text(next, 1, "CD001") && !has_text(next, 1, "BEA01")) break;
  }
  return std::nullopt;
}

std::optional<Recognition> refs(const ByteSource& source, std::uint64_t at) {
  const Bytes boot = read_whole(source, at, 512);
  auto found = begins(at, 0, "ReFS");
  found->range.length = saturating_mul(le64(boot, 24), le32(boot, 32));
  found->verified = has_text(boot, 16, "FSRS");
  return found;
}

template <std::size_t At, int Width>
std::optional<Recognition> image(const ByteSource& source, std::uint64_t at, std::string title) {
  const Bytes head = read_whole(source, at, 512);
  auto found = begins(at, 0, std::move(title));
  found->range.length = Width == 8 ? le64(head, At) : Width == 4 ? le32(head, At) : be32(head, At);
  found->verified = found->range.length != 0 && found->range.length <= source.size() - at;
  return found;
}

std::optional<Recognition> squashfs(const ByteSource& source, std::uint64_t at) {
  return image<40, 8>(source, at, "Squashfs");
}
std::optional<Recognition> cramfs(const ByteSource& source, std::uint64_t at) {
  return image<4, 4>(source, at, "cramfs");
}
std::optional<Recognition> romfs(const ByteSource& source, std::uint64_t at) {
  return image<8, -4>(source, at, "romfs");
}

std::optional<Recognition> ubifs(const ByteSource& source, std::uint64_t at) {
  constexpr unsigned kSuperblockNode = 6;
  const Bytes node = read_whole(source, at, 512);
  if (u8(node, 20) != kSuperblockNode) return std::nullopt;
  auto found = begins(at, 0, "UBIFS");
  found->range.length = std::uint64_t{le32(node, 36)} * le32(node, 40);
  found->verified = le32(node, 16) == 4096 && is_power_of_two(le32(node, 32));
  return found;
}

std::optional<Recognition> ubi(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, 64);
  auto found = begins(at, 0, "UBI");
  found->verified = u8(head, 4) == 1 && all_zero(slice(head, 5, 3)) && be32(head, 20) >= 64;
  return found;
}

std::optional<Recognition> jffs2(const ByteSource& source, std::uint64_t at) {
  const Bytes node = read_whole(source, at, 512);
  auto found = begins(at, 0, "JFFS2");
  const std::uint32_t length = le32(node, 4);
  found->verified = length >= 12 && length <= 64 * kKiB;
  return found->verified ? found : std::nullopt;
}

std::optional<Recognition> bfs(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, 512);
  auto found = begins(at, 0, "BFS");
  found->range.length = std::uint64_t{le32(head, 8)} + 1;
  found->verified = le32(head, 4) >= 512 && le32(head, 8) > le32(head, 4);
  return found;
}

}  // namespace

std::vector<Format> other_systems() {
  const FormatKind files = FormatKind::file_system;
  return {
      {"hfs+",
       files,
       {{0, "H+\0"sv}, {0, "HX\0"sv}},
       {{kKiB}, {kKiB, true, 512}, {kKiB, true, 4096}},
       hfs_plus},
      {"hfs", files, {{0, "BD"sv}}, {{kKiB}}, hfs},
      {"apfs", files, {{32, "NXSB"sv}}, {{0}}, apfs},
      {"udf", files, {{1, "CD001"sv}, {1, "BEA01"sv}}, {{32 * kKiB}}, udf},
      {"refs", files, {{3, "ReFS\0\0\0\0"sv}}, {{0}}, refs},
      {"squashfs", files, {{0, "hsqs"sv}}, {{0}}, squashfs},
      {"cramfs", files, {{0, "\x45\x3D\xCD\x28"sv}}, {{0}}, cramfs},
      {"romfs", files, {{0, "-rom1fs-"sv}}, {{0}}, romfs},
      {"ubifs", files, {{0, "\x31\x18\x10\x06"sv}}, {{0}}, ubifs},
      {"ubi", FormatKind::volume_manager, {{0, "UBI#"sv}}, {{0}}, ubi},
      {"jffs2",
       files,
       {{0, "\x85\x19\x03\x20"sv}, {0, "\x85\x19\x01\xE0"sv}, {0, "\x85\x19\x02\xE0"sv}},
       {{0}},
       jffs2},
      {"bfs", files, {{0, "\xCE\xFA\xAD\x1B"sv}}, {{0}}, bfs},
  };
}

}  // namespace lantern::named
