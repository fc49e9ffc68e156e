#include "container/vmdk/directory.h"

#include <algorithm>
#include <vector>

#include "base/bytes.h"
#include "base/checked.h"
#include "container/vmdk/layout.h"

namespace lantern {
namespace {

using namespace vmdk;

constexpr std::uint64_t kMaxTables = 1u << 17;

}  // namespace

bool are_grain_tables(const ByteSource& file, std::uint64_t first, const DirectoryShape& shape) {
  const std::uint64_t bytes = shape.tables * shape.table_entries * 4;
  if (shape.tables > kMaxTables || first >= file.size() || bytes > file.size() - first)
    return false;
  const std::uint64_t grains_from = std::max(shape.metadata_bytes, first + bytes);
  std::vector<std::uint32_t> grains;
  Bytes table(static_cast<std::size_t>(shape.table_entries * 4));
  for (std::uint64_t i = 0; i < shape.tables; ++i) {
    file.read(first + i * table.size(), table);
    for (std::size_t at = 0; at < table.size(); at += 4) {
      const std::uint32_t sector = le32(table, at);
      if (sector <= 1) continue;
      if (sector * kSector < grains_from || sector * kSector >= file.size()) return false;
      grains.push_back(sector);
    }
  }
  std::sort(grains.begin(), grains.end());
  if (std::adjacent_find(grains.begin(), grains.end()) != grains.end()) return false;
  if (grains.empty()) return file.size() <= grains_from + shape.grain_bytes;
  // All of them lie on one grid, and few places of it are left over.
  const std::uint64_t grain = shape.grain_bytes / kSector;
  for (const std::uint32_t sector : grains)
    if ((sector - grains.front()) % grain != 0) return false;
  const std::uint64_t room = (file.size() - grains.front() * kSector) / shape.grain_bytes + 1;
  return grains.size() * 2 >= room;
}

std::optional<GrainTables> find_grain_tables(const ByteSource& file, const DirectoryShape& shape,
                                             std::uint64_t within) {
  if (shape.tables == 0 || shape.tables > kMaxTables) return std::nullopt;
  const std::uint64_t directory_sectors = divide_up(shape.tables * 4, kSector);
  const std::uint64_t table_sectors = divide_up(shape.table_entries * 4, kSector);
  Bytes directory(static_cast<std::size_t>(shape.tables * 4));
  for (std::uint64_t at = 0; at < std::min(within, file.size()); at += kSector) {
    if (file.read(at, directory).length < directory.size()) break;
    const std::uint64_t first = at / kSector + directory_sectors;
    bool fits = true;
    for (std::uint64_t i = 0; i < shape.tables && fits; ++i)
      fits = le32(directory, static_cast<std::size_t>(i * 4)) == first + i * table_sectors;
    if (fits && are_grain_tables(file, first * kSector, shape))
      return GrainTables{first * kSector, shape.tables};
  }
  return std::nullopt;
}

}  // namespace lantern
