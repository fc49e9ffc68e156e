#include "survey/spaces.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "lantern/sweep.h"
#include "lantern/text.h"

namespace lantern::survey_parts {
namespace {

constexpr std::uint64_t kMinGap = 1u << 20;
// A volume that says so much of itself is one (FoundVolume::score).
constexpr unsigned kSureScore = 8;

bool overlaps(const DiskLayer& disk, Range range) {
  return std::any_of(disk.table.rows.begin(), disk.table.rows.end(),
                     [&](const VolumeRow& row) { return !intersect(row.range, range).empty(); });
}

// Whether the disk, without a table, is one volume already.
bool is_filled(const DiskLayer& disk) {
  return !disk.table.is_there() &&
         std::any_of(disk.volumes.begin(), disk.volumes.end(), [](const VolumeLayer& volume) {
           return volume.file_system() || (volume.owner() && volume.owner()->verified);
         });
}

// Some places of a part of the disk.
bool has_data(const ByteSource& disk, Range range, const Context& context) {
  constexpr std::uint64_t kLooks = 64;
  Bytes piece(4096);
  const std::uint64_t step = std::max<std::uint64_t>(range.length / kLooks, piece.size());
  for (std::uint64_t at = range.offset; at < range.end(); at += step) {
    context.check_cancelled();
    if (known_zero(disk, intersect({at, piece.size()}, range))) continue;
    const std::size_t got = disk.read(at, piece).length;
    if (!all_zero(ByteView(piece).first(got))) return true;
  }
  return false;
}

}  // namespace

std::vector<VolumePtr> unlisted_volumes(const DiskLayer& disk, const Session& session) {
  std::vector<VolumePtr> unlisted;
  if (is_filled(disk)) return unlisted;
  const Context context = session.context().at(disk.address.print());
  VolumeSearchOptions quick;
  quick.usual_places_only = true;
  for (const FoundVolume& found : search_volumes(disk.bytes, disk.table, quick, context).volumes) {
    const bool sure = found.verified && !found.start_lost && found.score >= kSureScore;
    if (!sure || found.row != 0 || found.past_end || found.range.offset == 0 ||
        overlaps(disk, found.range))
      continue;
    VolumeRow row;
    row.range = found.range;
    row.type = "not in the table";
    const Address address = disk.address.with({Step::Kind::at, found.range.offset, {}, {}});
    unlisted.push_back(session.open_range(disk, std::move(row), address));
    context.report(
        FindingCode::volume_lost_entry, Severity::warning, found.range,
        fmt::format("{} volume{} of {} {}", found.file_system,
                    found.label.empty() ? "" : fmt::format(" \"{}\"", for_terminal(found.label)),
                    human_size(found.range.length),
                    disk.table.is_there() ? "is named by no entry of the partition table"
                                          : "was found; no partition table can be read"),
        "it can be read as " + address.print());
  }
  return unlisted;
}

std::vector<SurveySpace> unallocated(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted,
                                     const Context& context) {
  std::vector<SurveySpace> spaces;
  if (!disk.table.is_there() && unlisted.empty()) return spaces;
  std::vector<Range> taken;
  if (disk.table.is_there())
    for (const VolumeLayer& volume : disk.volumes) taken.push_back(volume.row.range);
  for (const VolumePtr& volume : unlisted) taken.push_back(volume->row.range);
  std::sort(taken.begin(), taken.end(),
            [](const Range& a, const Range& b) { return a.offset < b.offset; });
  const auto gap = [&](std::uint64_t from, std::uint64_t to) {
    // Up to a MiB before the first volume is the table and its alignment.
    if (to <= from || to - from < kMinGap || to <= kMinGap) return;
    const Range range{from, to - from};
    spaces.push_back({disk.address.print(), range, has_data(*disk.bytes, range, context)});
  };
  std::uint64_t at = 0;
  for (const Range& range : taken) {
    gap(at, std::min(range.offset, disk.bytes->size()));
    at = std::max(at, range.end());
  }
  gap(at, disk.bytes->size());
  return spaces;
}

}  // namespace lantern::survey_parts
