// FAT for the registry: a boot sector, verified by the tables and folders behind it.
#include <algorithm>

#include "filesystem/fat/fat.h"
#include "filesystem/fat/fit.h"
#include "filesystem/formats.h"
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
  return {"fat", FormatKind::file_system, {{510, "\x55\xAA"sv}}, {{0}}, probe, true, open_fat};
}

}  // namespace lantern::fat
