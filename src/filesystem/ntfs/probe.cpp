// NTFS for the registry: a boot sector, verified by the file table or its mirror.
#include "base/bytes.h"
#include "base/checked.h"
#include "filesystem/formats.h"
#include "filesystem/ntfs/boot.h"
#include "filesystem/ntfs/ntfs.h"
#include "format/partition_guids.h"

namespace lantern::ntfs {
namespace {

using namespace std::string_view_literals;

bool record_at(const ByteSource& source, std::uint64_t at) {
  Bytes mark(4);
  return source.read(at, mark).length == mark.size() && has_text(mark, 0, "FILE");
}

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const Bytes sector = sector_at(source, at);
  const auto geometry = sector.empty() ? std::nullopt : parse_boot_sector(sector);
  if (!geometry) return std::nullopt;
  Recognition found;
  found.title = "NTFS";
  found.range = {at, geometry->volume_bytes + geometry->sector_bytes};
  const auto record = [&](std::uint64_t cluster) {
    const auto place = checked_add(at, saturating_mul(cluster, geometry->cluster_bytes));
    return place && record_at(source, *place);
  };
  found.verified = record(geometry->table_cluster) || record(geometry->mirror_cluster);
  return found;
}

}  // namespace

Format format() {
  Format format{"ntfs",   FormatKind::file_system, {{3, "NTFS    "sv}}, {{0}}, probe, true,
                open_ntfs};
  format.codes = {{{}, 0x07, 0x07, {0x07, 0x12, 0x27}, {partition_guid::kBasicData}}};
  format.geometry = {"sector", "cluster", "record", "table"};
  return format;
}

}  // namespace lantern::ntfs
