#include "filesystem/ntfs/boot.h"

#include <bit>

#include "base/bytes.h"
#include "base/checked.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kBootBytes = 512;
constexpr std::uint64_t kMaxClusterBytes = 2u << 20;
constexpr std::uint32_t kMinStructure = 512;
constexpr std::uint32_t kMaxStructure = 64u << 10;

// Bytes of a record or an index buffer, from clusters or from minus a power of two.
std::optional<std::uint32_t> structure_bytes(std::uint8_t value, std::uint64_t cluster_bytes) {
  std::uint64_t bytes = 0;
  if (value < 0x80)
    bytes = value * cluster_bytes;
  else if (value >= 0xE0)
    bytes = std::uint64_t{1} << (256 - value);
  if (bytes < kMinStructure || bytes > kMaxStructure || !is_power_of_two(bytes))
    return std::nullopt;
  return static_cast<std::uint32_t>(bytes);
}

}  // namespace

std::optional<Geometry> parse_boot_sector(ByteView sector, std::uint64_t place) {
  if (!has_text(sector, 3, "NTFS    ") || !has_boot_mark(sector)) return std::nullopt;
  Geometry g;
  g.place = place;
  g.sector_bytes = le16(sector, 0x0B);
  if (!is_power_of_two(g.sector_bytes) || g.sector_bytes < 256 || g.sector_bytes > 4096)
    return std::nullopt;
  const std::uint8_t per_cluster = u8(sector, 0x0D);
  if (per_cluster <= 0x80)
    g.cluster_bytes = std::uint64_t{per_cluster} * g.sector_bytes;
  else if (per_cluster >= 0xF0)
    g.cluster_bytes = (std::uint64_t{1} << (256 - per_cluster)) * g.sector_bytes;
  if (!is_power_of_two(g.cluster_bytes) || g.cluster_bytes > kMaxClusterBytes) return std::nullopt;
  const std::uint64_t sectors = le64(sector, 0x28);
  if (sectors == 0 || sectors >> (63 - std::countr_zero(g.sector_bytes)) != 0) return std::nullopt;
  g.volume_bytes = sectors * g.sector_bytes;
  g.table_cluster = le64(sector, 0x30);
  g.mirror_cluster = le64(sector, 0x38);
  if (g.table_cluster >= g.cluster_count() && g.mirror_cluster >= g.cluster_count())
    return std::nullopt;
  const auto record = structure_bytes(u8(sector, 0x40), g.cluster_bytes);
  const auto index = structure_bytes(u8(sector, 0x44), g.cluster_bytes);
  if (!record || !index) return std::nullopt;
  g.record_bytes = *record;
  g.index_bytes = *index;
  g.serial = le64(sector, 0x48);
  return g;
}

std::vector<Geometry> find_geometries(const ByteSource& volume) {
  std::vector<Geometry> found;
  std::vector<std::uint64_t> places = {0};
  for (const std::uint64_t sector : {512u, 4096u})
    if (volume.size() >= 2 * sector) {
      const std::uint64_t last = volume.size() / sector - 1;
      places.push_back(last * sector);
      places.push_back((last + 1) / 2 * sector);
    }
  Bytes sector(kBootBytes);
  for (const std::uint64_t place : places)
    if (volume.read(place, sector).length == sector.size())
      if (const auto geometry = parse_boot_sector(sector, place)) found.push_back(*geometry);
  return found;
}

std::vector<Geometry> geometry_by_hand(const std::map<std::string, std::uint64_t>& figures,
                                       std::uint64_t volume_bytes) {
  const auto figure = [&](const char* key, std::uint64_t usual) {
    const auto given = figures.find(key);
    return given == figures.end() ? usual : given->second;
  };
  const std::uint64_t sector = figure("sector", 512);
  const std::uint64_t cluster = figure("cluster", 4096);
  const std::uint64_t record = figure("record", 1024);
  const std::uint64_t table = figure("table", volume_bytes);
  const bool can_be = is_power_of_two(sector) && sector >= 256 && sector <= 4096 &&
                      is_power_of_two(cluster) && cluster >= sector &&
                      cluster <= kMaxClusterBytes && is_power_of_two(record) &&
                      record >= kMinStructure && record <= kMaxStructure && table < volume_bytes &&
                      table % cluster == 0;
  if (!can_be) return {};
  Geometry g;
  g.sector_bytes = static_cast<std::uint32_t>(sector);
  g.cluster_bytes = cluster;
  g.volume_bytes = volume_bytes;
  g.table_cluster = g.mirror_cluster = table / cluster;
  g.record_bytes = static_cast<std::uint32_t>(record);
  return {g};
}

}  // namespace lantern::ntfs
