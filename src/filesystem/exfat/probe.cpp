// exFAT for the registry: a boot region, verified by its sum and the FAT it leads to (which tells
// the first region from its copy).
#include "filesystem/exfat/boot.h"
#include "filesystem/exfat/exfat.h"
#include "filesystem/formats.h"
#include "format/partition_guids.h"

namespace lantern::exfat {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kFirstEntries = 0xFFFFFFFFFFFFFFF8;

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const Bytes sector = sector_at(source, at);
  const auto geometry = sector.empty() ? std::nullopt : parse_boot_sector(sector);
  if (!geometry) return std::nullopt;
  Recognition found;
  found.title = "exFAT";
  found.range = {at, geometry->volume_bytes};
  Bytes first(8);
  source.read(at + geometry->table_offset, first);
  found.verified =
      le64(first, 0) == kFirstEntries && sum_is_right(source, at, geometry->sector_bytes);
  return found;
}

}  // namespace

Format format() {
  Format format{"exfat",   FormatKind::file_system, {{3, "EXFAT   "sv}}, {{0}}, probe, true,
                open_exfat};
  format.geometry = {"cluster", "data", "table", "table_bytes", "root_cluster", "root_bytes"};
  format.codes = {{{}, 0x07, 0x07, {0x07, 0x12, 0x27}, {partition_guid::kBasicData}}};
  return format;
}

}  // namespace lantern::exfat
