// FAT for the registry: a boot sector, verified by the tables and folders behind it.
#include <algorithm>

#include "filesystem/fat/fat.h"
#include "filesystem/fat/fit.h"
#include "filesystem/formats.h"
#include "format/partition_guids.h"
#include "source/offset_view.h"

namespace lantern::fat {
namespace {

using namespace std::string_view_literals;

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const Bytes sector = sector_at(source, at);
  const auto geometry = sector.empty() ? std::nullopt : parse_boot_sector(sector);
  if (!geometry) return std::nullopt;
  Recognition found;
  found.title = "FAT";
  found.range = {at, geometry->volume_bytes};
  found.label = geometry->label;
  // That the source ends before the volume does says nothing against the volume.
  found.verified = !fit(*geometry, OffsetView(source, at, geometry->volume_bytes)).doubted;
  return found;
}

}  // namespace

Format format() {
  Format format{"fat",   FormatKind::file_system, {{510, "\x55\xAA"sv}}, {{0}}, probe, true,
                open_fat};
  const std::vector<std::uint8_t> small = {0x01, 0x04, 0x06, 0x0E, 0x12, 0x27, 0xEF};
  const std::vector<std::string_view> gpt = {partition_guid::kBasicData,
                                             partition_guid::kEfiSystem};
  format.codes = {{"fat12", 0x01, 0x01, small, gpt},
                  {"fat16", 0x0E, 0x04, small, gpt, 32u << 20},
                  {"fat16", 0x0E, 0x06, small, gpt},
                  {"fat32", 0x0C, 0x0B, {0x0B, 0x0C, 0x12, 0x27, 0xEF}, gpt}};
  format.geometry = {"bits",        "cluster", "data",       "table",
                     "table_bytes", "root",    "root_bytes", "root_cluster"};
  return format;
}

}  // namespace lantern::fat
