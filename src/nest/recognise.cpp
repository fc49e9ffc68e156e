#include "nest/recognise.h"

#include <algorithm>
#include <array>
#include <string_view>

#include "base/bytes.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

struct Mark {
  std::size_t at;
  std::string_view bytes;
  std::string_view name;
};

constexpr std::array<Mark, 12> kMarks = {{
    {3, "NTFS    "sv, "NTFS"},
    {3, "EXFAT   "sv, "exFAT"},
    {0, "XFSB"sv, "XFS"},
    {512, "LABELONE"sv, "LVM physical volume"},
    {4086, "SWAPSPACE2"sv, "Linux swap"},
    {4096, "\xFC\x4E\x2B\xA9"sv, "Linux array member"},
    {32, "NXSB"sv, "APFS"},
    {1024, "H+\0"sv, "HFS+"},
    {1024, "HX\0"sv, "HFS+"},
    {32769, "CD001"sv, "ISO 9660"},
    {65600, "_BHRfS_M"sv, "Btrfs"},
    {1024, "\x10\x20\xF5\xF2"sv, "F2FS"},
}};

constexpr std::size_t kLook = std::size_t{66} * 1024;

std::string ext_version(ByteView start) {
  const std::uint32_t compatible = le32(start, 1024 + 92);
  const std::uint32_t incompatible = le32(start, 1024 + 96);
  if ((incompatible & 0x2C0) != 0) return "ext4";
  return (compatible & 0x4) != 0 ? "ext3" : "ext2";
}

}  // namespace

std::string recognise(const ByteSource& volume) {
  Bytes start(kLook);
  const bool lost = !volume.read(0, start).unreadable.empty();
  for (const Mark& mark : kMarks)
    if (has_text(start, mark.at, mark.bytes)) return std::string(mark.name);
  if (le16(start, 1024 + 56) == 0xEF53) return ext_version(start);
  if (!all_zero(start)) return {};
  return lost ? "its start cannot be read" : "nothing but zeros at its start";
}

}  // namespace lantern
