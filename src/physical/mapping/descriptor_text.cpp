#include "physical/mapping/descriptor_text.h"

#include <fmt/format.h>

#include <algorithm>

namespace lantern {
namespace {

const char* create_type(const DiskMap& map) {
  if (map.kind == DescriptorKind::device_extents)
    return map.partitions.empty() ? "fullDevice" : "partitionedDevice";
  return map.extents.size() == 1 ? "monolithicFlat" : "twoGbMaxExtentFlat";
}

}  // namespace

MapRecord record_of(const DiskMap& map) {
  MapRecord record;
  record.disk = map.disk.name;
  record.size_bytes = map.disk.facts.size_bytes;
  record.sector_bytes = map.machine_sector_bytes;
  record.table_id = map.table_id;
  for (const VolumeRow& row : map.partitions) record.parts.push_back({row.number, row.range});
  return record;
}

std::string descriptor_text(const DiskMap& map) {
  // Cylinders of 16 heads and 63 sectors, which old firmware asks for: never more than 16383.
  constexpr std::uint64_t kHeads = 16, kTrack = 63, kMaxCylinders = 16383;
  const std::uint64_t sectors = map.disk.facts.size_bytes / kSector;
  std::string text = fmt::format(
      "# Disk DescriptorFile\n"
      "# Points to a disk of this computer and holds no data of it.\n"
      "{}\n"
      "version=1\n"
      "CID=fffffffe\n"
      "parentCID=ffffffff\n"
      "createType=\"{}\"\n\n"
      "# Extent description\n",
      map_record_line(record_of(map)), create_type(map));
  for (const MapExtent& extent : map.extents)
    if (extent.kind == MapExtent::Kind::zeros)
      text += fmt::format("RW {} ZERO\n", extent.range.length / kSector);
    else
      text += fmt::format("RW {} FLAT \"{}\" {}\n", extent.range.length / kSector, extent.file,
                          extent.from / kSector);
  text += fmt::format(
      "\n# The disk Data Base\n"
      "ddb.virtualHWVersion = \"4\"\n"
      "ddb.adapterType = \"ide\"\n"
      "ddb.geometry.cylinders = \"{}\"\n"
      "ddb.geometry.heads = \"{}\"\n"
      "ddb.geometry.sectors = \"{}\"\n",
      std::clamp<std::uint64_t>(sectors / (kHeads * kTrack), 1, kMaxCylinders), kHeads, kTrack);
  return text;
}

}  // namespace lantern
