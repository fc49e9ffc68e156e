#include "lantern/recover/free_space.h"

#include <algorithm>

#include "base/range_set.h"
#include "filesystem/closed.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "recover/sweep/what_to_read.h"

namespace lantern {
namespace {

// So many stretches are left out at most: of a map in more pieces the small ones stay.
constexpr std::uint64_t kMaxStretches = 1u << 20;

// Of the volume, settled.
RangeSet free_of(const FileSystem& files, std::uint64_t length, const Context& context) {
  for (std::uint64_t shortest = 1;; shortest = std::max<std::uint64_t>(shortest * 4, 4096)) {
    RangeSet free;
    std::uint64_t count = 0;
    files.allocation({0, length}, [&](Range part, bool in_use) {
      context.check_cancelled();
      if (!in_use && part.length >= shortest && ++count <= kMaxStretches) free.add(part);
      return count <= kMaxStretches;
    });
    if (count > kMaxStretches) continue;
    free.settle();
    return free;
  }
}

// Why the map of this file system is not gone by; empty: it is, and `free` is what it says.
std::string why_kept(const VolumeLayer& volume, RangeSet& free, const Context& context) {
  const auto& files = volume.file_system();
  if (volume.content() != volume.bytes || !volume.required_key().empty()) return "it is encrypted";
  if (!files) return "what it holds is not read here: " + content_of(volume);
  if (!was_closed(*volume.bytes, files->facts())) return "it was not unmounted";
  free = free_of(*files, volume.bytes->size(), context);
  std::string wrong;
  files->walk({}, [&](const Entry& entry) {
    context.check_cancelled();
    if (entry.kind != EntryKind::file || entry.size_bytes == 0 ||
        entry.attributes.find('e') != std::string::npos)
      return WalkStep::go_on;
    const SourcePtr content = files->open(entry).bytes;
    content->extents({0, content->size()}, [&](const Extent& extent) {
      for (const ExtentInput& input : extent.inputs)
        if (free.meets({input.offset, extent.range.length})) wrong = path_text(entry.path);
      return wrong.empty();
    });
    return wrong.empty() ? WalkStep::go_on : WalkStep::stop;
  });
  if (!wrong.empty()) return "its map calls a part of " + wrong + " free";
  for (const Finding& finding : volume.findings->all()) {
    if (finding.code == FindingCode::ext_journal || finding.code == FindingCode::ntfs_unclean)
      return "it was not unmounted";
    if (finding.severity > Severity::note) return "it is damaged: " + finding.message;
  }
  return {};
}

bool lies_alone(const VolumeLayer& volume, const DiskLayer& disk) {
  return std::none_of(disk.volumes.begin(), disk.volumes.end(), [&](const VolumeLayer& other) {
    return other.row.number != volume.row.number &&
           !intersect(other.row.range, volume.row.range).empty();
  });
}

}  // namespace

WithoutFree leave_out_free(const Target& target, const Context& context) {
  if (target.entry || target.bytes)
    throw Error(ErrorCode::usage, target.disk().address.print(), std::nullopt,
                "only of a disk or a volume is free space left out", "name the disk");
  WithoutFree result;
  RangeSet left_out;
  const auto look_at = [&](const VolumeLayer& volume, std::uint64_t from, std::uint64_t end) {
    FreeSpace space{volume.address.print(), 0, {}};
    RangeSet free;
    space.kept_whole = why_kept(volume, free, context);
    if (space.kept_whole.empty())
      free.parts({0, volume.bytes->size()}, [&](Range part, bool is_free) {
        const Range place = intersect({from + part.offset, part.length}, {0, end});
        if (!is_free || place.empty()) return;
        left_out.add(place);
        space.left_out_bytes += place.length;
      });
    result.volumes.push_back(std::move(space));
  };
  if (target.volume) {
    const VolumeLayer& volume = target.volume_layer();
    look_at(volume, 0, volume.bytes->size());
    left_out.settle();
    result.bytes = without(volume.bytes, left_out, ExtentKind::zero);
    return result;
  }
  const DiskLayer& disk = target.disk();
  for (const VolumeLayer& volume : disk.volumes)
    if (lies_alone(volume, disk))
      look_at(volume, volume.row.range.offset, disk.bytes->size());
    else
      result.volumes.push_back({volume.address.print(), 0, "another volume lies on it"});
  left_out.settle();
  result.bytes = without(disk.bytes, left_out, ExtentKind::zero);
  return result;
}

}  // namespace lantern
