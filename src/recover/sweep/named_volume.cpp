#include "recover/sweep/named_volume.h"

#include <libdeflate.h>

#include <array>
#include <cstring>

#include "base/checked.h"
#include "base/crc32c.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kPage = 4096;
constexpr std::uint64_t kMostSectors = 1ull << 52;

Bytes read_whole(const ByteSource& disk, std::uint64_t at, std::size_t length) {
  Bytes bytes(length);
  if (disk.read(at, bytes).length < length) bytes.assign(length, std::byte{0});
  return bytes;
}

// Every group of blocks begins with a copy; the header behind it says which group it is.
std::optional<NamedVolume> xfs(const ByteSource& disk, std::uint64_t at) {
  const Bytes super = read_whole(disk, at, kSector);
  const std::uint64_t block = be32(super, 4), sector = be16(super, 102);
  if (!is_power_of_two(block) || block < kSector || block > 65536 || !is_power_of_two(sector) ||
      sector < kSector || sector > block)
    return std::nullopt;
  const Bytes header = read_whole(disk, at + sector, kSector);
  if (!has_text(header, 0, "XAGF") || be32(header, 8) != 0) return std::nullopt;
  return NamedVolume{"xfs", "an XFS file system", at, saturating_mul(be64(super, 8), block), true};
}

std::optional<NamedVolume> btrfs(const ByteSource& disk, std::uint64_t at) {
  constexpr std::uint64_t kPlace = 65536;
  if (at < kPlace) return std::nullopt;
  const Bytes super = read_whole(disk, at, kPage);
  if (le64(super, 0x30) != kPlace) return std::nullopt;
  const bool sum = crc32c(ByteView(super).subspan(32)) == le32(super, 0);
  return NamedVolume{"btrfs", "a Btrfs file system", at - kPlace, le64(super, 0xC9 + 8), sum};
}

std::optional<NamedVolume> swap(const ByteSource& disk, std::uint64_t at) {
  if (at < kPage - kSector) return std::nullopt;
  const std::uint64_t start = at - (kPage - kSector);
  const Bytes header = read_whole(disk, start + 1024, kSector);
  const std::uint64_t last = le32(header, 4);
  if (le32(header, 0) != 1 || last == 0) return std::nullopt;
  // Behind the figures of a fresh one there is nothing.
  const bool bare = le32(header, 8) == 0 && all_zero(slice(header, 44, 400));
  return NamedVolume{"swap", "Linux swap space", start, (last + 1) * kPage, bare};
}

std::optional<NamedVolume> lvm(const ByteSource& disk, std::uint64_t at) {
  constexpr std::uint32_t kSeed = 0xF597A6CF;
  const Bytes label = read_whole(disk, at, kSector);
  const std::uint64_t number = le64(label, 8);
  const std::uint32_t header = le32(label, 20);
  if (!has_text(label, 24, "LVM2 001") || number > 3 || number * kSector > at || header < 32 ||
      header > kSector - 40)
    return std::nullopt;
  // The same sum as everywhere, begun from a seed and not turned round.
  const bool sum = ~libdeflate_crc32(~kSeed, &label[20], kSector - 20) == le32(label, 16);
  return NamedVolume{"lvm", "an LVM physical volume", at - number * kSector,
                     le64(label, header + 32), sum};
}

std::optional<NamedVolume> luks(const ByteSource& disk, std::uint64_t at) {
  const Bytes header = read_whole(disk, at, kSector);
  const unsigned version = u8(header, 7);
  if (u8(header, 6) != 0 || (version != 1 && version != 2)) return std::nullopt;
  const std::uint64_t length = be64(header, 8);
  const bool second = version == 2 && length >= kPage && length <= (4u << 20) &&
                      has_text(read_whole(disk, at + length, 6), 0, "SKUL\xBA\xBE");
  return NamedVolume{"luks", "an encrypted volume (LUKS)", at, 0, version == 1 || second};
}

std::optional<NamedVolume> array_member(const ByteSource& disk, std::uint64_t at) {
  constexpr std::uint64_t kPlace = 4096;
  const Bytes super = read_whole(disk, at, kSector);
  if (at < kPlace || le32(super, 4) != 1 || le64(super, 144) != kPlace / kSector)
    return std::nullopt;
  const std::uint64_t before = le64(super, 128), sectors = le64(super, 136);
  if (before > kMostSectors || sectors > kMostSectors) return std::nullopt;
  return NamedVolume{"array", "a member of a Linux array", at - kPlace,
                     (before + sectors) * kSector, true};
}

using Tell = std::optional<NamedVolume> (*)(const ByteSource&, std::uint64_t);
struct Mark {
  std::size_t at;
  std::string_view bytes;
  Tell tell;
};
using namespace std::string_view_literals;
constexpr std::array<Mark, 6> kMarks = {{{0, "XFSB"sv, xfs},
                                         {64, "_BHRfS_M"sv, btrfs},
                                         {502, "SWAPSPACE2"sv, swap},
                                         {0, "LABELONE"sv, lvm},
                                         {0, "LUKS\xBA\xBE"sv, luks},
                                         {0, "\xFC\x4E\x2B\xA9"sv, array_member}}};

}  // namespace

bool may_name_volume(const std::byte* sector) {
  const auto is = [&](std::size_t at, const char(&text)[5]) {
    return std::memcmp(sector + at, text, 4) == 0;
  };
  return is(0, "XFSB") || is(0, "LABE") || is(0, "LUKS") || is(0, "\xFC\x4E\x2B\xA9") ||
         is(64, "_BHR") || is(502, "SWAP");
}

std::optional<NamedVolume> named_volume(const ByteSource& disk, std::uint64_t at) {
  const Bytes sector = read_whole(disk, at, kSector);
  for (const Mark& mark : kMarks)
    if (has_text(sector, mark.at, mark.bytes)) return mark.tell(disk, at);
  return std::nullopt;
}

}  // namespace lantern
