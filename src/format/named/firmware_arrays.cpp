// What array controllers of firmware leave at the end of each member. Offsets in bytes of a sector.
//   last but one  0 "Intel Raid ISM Cfg Sig. ", 32 sum of the words before, 36 length
//   last but one  0 "NVIDIA  "
//   last          0 DE11DE11, big-endian: the SNIA's common format (DDF 2.0), 4 its CRC
//   last          0 "$XIDE$"     0x60 "CH" and 0 ...: see each mark
//   sector 9      0x20 5A7816F0 or 5A7816FD
//   63 before the end  0 "Promise Technology, Inc."
// Sources: SNIA Common RAID Disk Data Format 2.0; for the others, which have none, public
// descriptions of their marks. A mark alone is enough to leave a disk alone.
#include "format/named/named.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

// All of the disk is the array's, up to the sector that says so.
Recognition member(std::uint64_t at, std::string detail) {
  Recognition found;
  found.title = "firmware array member";
  found.range = {0, at + kSector};
  found.detail = std::move(detail);
  return found;
}

std::optional<Recognition> common(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, kSector);
  Recognition found = member(at, "common disk data format");
  found.verified = be64(head, 96) <= source.size() / kSector;
  found.set_id = text_of(slice(head, 8, 24));
  return found;
}

std::optional<Recognition> intel(const ByteSource& source, std::uint64_t at) {
  const Bytes head = read_whole(source, at, kSector);
  Recognition found = member(at, "Intel Matrix format");
  const std::uint32_t length = le32(head, 36);
  found.verified = length >= 216 && length <= (1u << 16);
  found.set_id = text_of(slice(head, 40, 4));
  return found;
}

template <const std::string_view& Detail>
std::optional<Recognition> marked(const ByteSource& source, std::uint64_t at) {
  // Near an end, or it is a file's content.
  if (at > 16 * kSector && source.size() - at > 64 * kSector) return std::nullopt;
  Recognition found = member(at, std::string(Detail));
  found.verified = true;
  return found;
}

constexpr std::string_view kNvidia = "NVIDIA format";
constexpr std::string_view kPromise = "Promise format";
constexpr std::string_view kLsi = "LSI format";
constexpr std::string_view kHighpoint = "HighPoint format";

}  // namespace

std::vector<Format> firmware_arrays() {
  const FormatKind array = FormatKind::array;
  return {
      {"ddf", array, {{0, "\xDE\x11\xDE\x11"sv}}, {{kSector, true}}, common},
      {"imsm", array, {{0, "Intel Raid ISM Cfg Sig. "sv}}, {{2 * kSector, true}}, intel},
      {"nvidia-raid", array, {{0, "NVIDIA  "sv}}, {{2 * kSector, true}}, marked<kNvidia>},
      {"promise-raid",
       array,
       {{0, "Promise Technology, Inc."sv}},
       {{63 * kSector, true}, {kSector, true}},
       marked<kPromise>},
      {"lsi-raid", array, {{0, "$XIDE$"sv}}, {{kSector, true}}, marked<kLsi>},
      {"highpoint-raid",
       array,
       {{0x20, "\xF0\x16\x78\x5A"sv}, {0x20, "\xFD\x16\x78\x5A"sv}},
       {{9 * kSector}, {11 * kSector, true}},
       marked<kHighpoint>},
  };
}

}  // namespace lantern::named
