#include "recover/sweep/explained.h"

#include <algorithm>
#include <iterator>

#include "base/checked.h"
#include "filesystem/fat/cluster_index.h"
#include "filesystem/fat/tree.h"
#include "filesystem/ntfs/volume.h"
#include "lantern/sources.h"

namespace lantern {

void Explained::add(std::string_view format, Range volume) {
  if (format == "ntfs") add_ntfs(volume);
  if (format == "fat") add_fat(volume);
}

void Explained::add_ntfs(Range range) {
  const SourcePtr bytes = make_window(disk_, range);
  for (const ntfs::Geometry& geometry : ntfs::find_geometries(*bytes)) {
    ntfs::Volume volume{bytes, make_cached(bytes, context_), geometry, context_, bytes->size()};
    if (!ntfs::find_table(volume)) continue;
    for (const ntfs::Run& run : volume.table_runs)
      if (!run.hole)
        file_tables_.add(
            {range.offset + run.lcn * geometry.cluster_bytes, run.count * geometry.cluster_bytes});
    file_tables_.add({range.offset + geometry.mirror_cluster * geometry.cluster_bytes,
                      std::max<std::uint64_t>(geometry.cluster_bytes,
                                              std::uint64_t{4} * geometry.record_bytes)});
    return;
  }
}

void Explained::add_fat(Range range) {
  const SourcePtr bytes = make_window(disk_, range);
  const auto geometry = fat::find_geometry(*bytes, context_);
  if (!geometry) return;
  const SourcePtr cached = make_cached(bytes, context_);
  const fat::Disk disk{
      bytes,   cached, *geometry, fat::Table(cached, *geometry, context_), fat::CodePage("CP437"),
      context_};
  fat_heads_.add({range.offset + geometry->table_offset,
                  geometry->table_count * geometry->table_bytes + geometry->root_bytes});
  if (geometry->valid_cluster(geometry->root_cluster))
    fat_heads_.add(
        {range.offset + geometry->cluster_offset(geometry->root_cluster), geometry->cluster_bytes});
  fat::Layout layout = fat::index_clusters(disk);
  WalkOptions all;
  all.deleted = true;
  fat::Tree(disk, layout, fat::Tree::Mode::read).walk(all, [&](const fat::Visit& visit) {
    if (!visit.slot.folder()) return WalkStep::go_on;
    const auto deleted = layout.deleted_folders.find(visit.slot_offset);
    const std::uint32_t first =
        deleted == layout.deleted_folders.end() ? visit.slot.first_cluster() : deleted->second;
    if (geometry->valid_cluster(first))
      folders_.insert(range.offset + geometry->cluster_offset(first));
    return WalkStep::go_on;
  });
}

void Explained::settle() {
  file_tables_.settle();
  fat_heads_.settle();
}

std::vector<RecordRun> Explained::loose(const std::vector<RecordRun>& runs) const {
  std::vector<RecordRun> found;
  for (const RecordRun& run : runs)
    file_tables_.parts({run.offset, run.end() - run.offset}, [&](Range part, bool claimed) {
      if (claimed) return;
      const std::uint64_t first = divide_up(part.offset - run.offset, run.record_bytes);
      const std::uint64_t end = (part.end() - run.offset) / run.record_bytes;
      if (first < end)
        found.push_back({run.offset + first * run.record_bytes, run.number + first, end - first,
                         run.record_bytes});
    });
  return found;
}

std::vector<FolderHead> Explained::loose(const std::vector<FolderHead>& heads) const {
  std::vector<FolderHead> found;
  std::copy_if(heads.begin(), heads.end(), std::back_inserter(found),
               [&](const FolderHead& head) { return !folders_.contains(head.offset); });
  return found;
}

}  // namespace lantern
