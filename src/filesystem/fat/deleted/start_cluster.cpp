#include "filesystem/fat/deleted/start_cluster.h"

#include <algorithm>
#include <array>
#include <string_view>

#include "lantern/text.h"

namespace lantern::fat {
namespace {

using namespace std::string_view_literals;

struct Beginning {
  std::string_view ending;
  std::string_view bytes;
};

constexpr std::array<Beginning, 18> kBeginnings = {{
    {"jpg", "\xFF\xD8\xFF"sv},
    {"jpeg", "\xFF\xD8\xFF"sv},
    {"png", "\x89PNG"sv},
    {"gif", "GIF8"sv},
    {"bmp", "BM"sv},
    {"tif", "II*\0"sv},
    {"pdf", "%PDF"sv},
    {"zip", "PK\x03\x04"sv},
    {"docx", "PK\x03\x04"sv},
    {"xlsx", "PK\x03\x04"sv},
    {"odt", "PK\x03\x04"sv},
    {"ods", "PK\x03\x04"sv},
    {"doc", "\xD0\xCF\x11\xE0"sv},
    {"xls", "\xD0\xCF\x11\xE0"sv},
    {"gz", "\x1F\x8B"sv},
    {"wav", "RIFF"sv},
    {"avi", "RIFF"sv},
    {"exe", "MZ"sv},
}};

constexpr std::array<std::string_view, 8> kTextEndings = {"txt", "csv",  "log", "md",
                                                          "ini", "html", "xml", "json"};

bool is_text(ByteView bytes) {
  // A file may end inside the cluster; what follows it is commonly zeros.
  std::size_t length = bytes.size();
  while (length > 0 && bytes[length - 1] == std::byte{0}) --length;
  return length > 0 &&
         std::none_of(
             bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(length), [](std::byte b) {
               const auto c = std::to_integer<unsigned>(b);
               return c == 0x7F || (c < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != '\f');
             });
}

// Whether a file of this size can end where it would, laid in one run from `cluster`: data up to
// its end, zeros behind it in the sector. -1 no, 0 silent, 1 yes.
int end_suits(const Disk& disk, std::uint32_t cluster, std::uint32_t size_bytes) {
  const std::uint32_t in_sector = size_bytes % 512;
  if (in_sector == 0) return 0;
  Bytes sector(512);
  const std::uint64_t offset = disk.geometry.cluster_offset(cluster) + size_bytes - in_sector;
  if (disk.cached->read(offset, sector).length < sector.size()) return -1;
  const bool data = !all_zero(ByteView(sector).first(in_sector));
  return data && all_zero(ByteView(sector).subspan(in_sector)) ? 1 : -1;
}

}  // namespace

int content_suits(const std::string& name, ByteView start) {
  if (all_zero(start)) return -1;
  const std::size_t dot = name.rfind('.');
  if (dot == std::string::npos) return 0;
  const std::string_view ending = std::string_view(name).substr(dot + 1);
  for (const Beginning& known : kBeginnings)
    if (equal_ignoring_case(known.ending, ending)) return has_text(start, 0, known.bytes) ? 1 : -1;
  for (const std::string_view text : kTextEndings)
    if (equal_ignoring_case(text, ending)) return is_text(start) ? 1 : -1;
  return 0;
}

std::uint32_t best_start(const Disk& disk, const std::vector<std::uint32_t>& candidates,
                         const Wanted& wanted) {
  const auto weight = [&](std::uint32_t cluster) {
    Bytes start(512);
    disk.cached->read(disk.geometry.cluster_offset(cluster), start);
    const bool near = cluster >> 16 == wanted.near >> 16;
    return content_suits(wanted.name, start) * 4 + end_suits(disk, cluster, wanted.size_bytes) * 3 +
           (near ? (wanted.halves_wiped ? 2 : 1) : 0) + (cluster >> 16 == 0 ? 1 : 0);
  };
  return *std::max_element(candidates.begin(), candidates.end(),
                           [&](std::uint32_t a, std::uint32_t b) { return weight(a) < weight(b); });
}

bool holds_something(const Disk& disk, std::uint32_t cluster) {
  Bytes start(512);
  disk.cached->read(disk.geometry.cluster_offset(cluster), start);
  return !all_zero(start);
}

}  // namespace lantern::fat
