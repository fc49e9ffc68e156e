#include "repair/plan/volumes_for_table.h"

#include <algorithm>

#include "base/bytes.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/facets.h"
#include "repair/partition_codes.h"
#include "repair/plan/hands_off.h"

namespace lantern::repair {
namespace {

// Bytes that are read to find volumes without being asked to: seconds.
constexpr std::uint64_t kQuicklyRead = 1u << 30;
// Before the first volume: the table, and code that goes with it.
constexpr std::uint64_t kBeforeVolumes = 1u << 20;

// Whether the table leads to something wherever it leads, or the volumes found are all there is.
bool explained(const DiskLayer& disk, const VolumeSearch& found) {
  if (found.unexplained == 0) return true;
  if (!disk.table.is_there()) return false;
  return std::all_of(disk.volumes.begin(), disk.volumes.end(), [](const VolumeLayer& v) {
    // Of kinds that are not read here nothing can be said.
    const bool any_kind = std::all_of(
        repair_facets().begin(), repair_facets().end(),
        [&](const RepairFacet& facet) { return type_contradicts(v.row, facet.format); });
    return v.file_system() || v.owner() || v.row.system || any_kind;
  });
}

bool has_data(const ByteSource& flat, Range range, const Context& context) {
  constexpr std::uint64_t kMaxLooked = 64u << 20;
  Bytes piece(std::size_t{1} << 20);
  range.length = std::min(range.length, kMaxLooked);
  for (std::uint64_t at = range.offset; at < range.end(); at += piece.size()) {
    context.check_cancelled();
    const Range part = intersect({at, piece.size()}, range);
    if (known_zero(flat, part)) continue;
    const std::size_t got = flat.read(at, piece).length;
    if (!all_zero(ByteView(piece).first(std::min(got, static_cast<std::size_t>(part.length)))))
      return true;
  }
  return false;
}

}  // namespace

VolumesForTable volumes_for_table(const DiskLayer& disk, bool every_sector,
                                  const Context& context) {
  VolumeSearchOptions how;
  how.usual_places_only = !every_sector;
  how.every_sector = every_sector;
  VolumeSearch found = search_volumes(disk.container.flat, disk.table, how, context);
  if (every_sector || explained(disk, found)) return {std::move(found), {}};
  if (found.unexplained > kQuicklyRead)
    return {std::move(found),
            {"volumes may be where they usually are not: ", Do::every_sector,
             " reads all of the disk"}};
  return {search_volumes(disk.container.flat, disk.table, {}, context), {}};
}

TableEvidence evidence_of_a_table(const DiskLayer& disk, const VolumeSearch& found,
                                  const Context& context) {
  const ByteSource& flat = *disk.container.flat;
  const Bytes sector = read_bytes(flat, 0, 512);
  if (sector.size() < 512 || found.volumes.empty() || has_gpt(disk)) return TableEvidence::good;
  if (has_boot_mark(sector) || !all_zero(slice(sector, 446, 64))) return TableEvidence::good;
  const std::uint64_t first = found.volumes.front().range.offset;
  constexpr std::uint64_t kTrack = 63 * std::uint64_t{512};
  // Cards begin anywhere in the first MiB; behind that, volumes begin on boundaries.
  if (first > kBeforeVolumes && first % kBeforeVolumes != 0 && first % kTrack != 0)
    return TableEvidence::none;
  const std::uint64_t before = std::min(kBeforeVolumes, first);
  return has_data(flat, {before, first - before}, context) ? TableEvidence::doubtful
                                                           : TableEvidence::good;
}

}  // namespace lantern::repair
