#include "recover/sweep/headless/explained.h"

#include <algorithm>
#include <iterator>

#include "base/checked.h"
#include "filesystem/ext/volume.h"
#include "filesystem/fat/cluster_index.h"
#include "filesystem/fat/tree.h"
#include "filesystem/ntfs/volume.h"
#include "lantern/sources.h"

namespace lantern {

void add_used(const FileSystem& files, Range volume, RangeSet& used) {
  files.allocation({0, volume.length}, [&](Range part, bool in_use) {
    if (in_use) used.add({volume.offset + part.offset, part.length});
    return true;
  });
}

void Explained::add(const FileSystem& files, Range volume, bool by_hand) {
  const std::string& format = files.facts().format;
  if (format == "ntfs" && !by_hand) add_ntfs(volume);
  if (format == "fat" && !by_hand) add_fat(volume);
  if (format == "exfat" && !by_hand) add_used(files, volume, exfat_used_);
  if (format == "ext") add_ext(files, volume, by_hand);
}

// But for what of its inode tables was never written: an older life may be there.
void Explained::add_ext(const FileSystem& files, Range range, bool by_hand) {
  if (by_hand) return add_used(files, range, ext_used_);
  const SourcePtr bytes = make_window(disk_, range);
  RangeSet unwritten;
  for (const ext::Superblock& super : ext::find_superblocks(*bytes)) {
    Context quiet = context_;
    quiet.findings = std::make_shared<FindingSink>();
    const ext::Volume volume{bytes, make_cached(bytes, quiet), super, bytes->size(), quiet};
    for (std::uint32_t number = 0; number < volume.groups_here(); ++number) {
      if (number % 1024 == 0) context_.check_cancelled();
      const auto group = volume.group(number);
      if (!group) continue;
      const std::uint64_t all = std::uint64_t{super.inodes_per_group} * super.inode_bytes;
      const std::uint64_t unused =
          std::min(all, std::uint64_t{group->unused_inodes} * super.inode_bytes);
      if (unused > 0)
        unwritten.add(
            {range.offset + volume.block_place(group->inode_table) + all - unused, unused});
    }
    break;
  }
  unwritten.settle();
  files.allocation({0, range.length}, [&](Range part, bool in_use) {
    if (in_use)
      unwritten.parts({range.offset + part.offset, part.length}, [&](Range some, bool never) {
        if (!never) ext_used_.add(some);
      });
    return true;
  });
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
  ext_used_.settle();
  exfat_used_.settle();
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

std::vector<Range> Explained::loose_stretches(const std::vector<Range>& stretches) const {
  std::vector<Range> found;
  for (const Range& stretch : stretches)
    ext_used_.parts(stretch, [&](Range part, bool used) {
      if (!used) found.push_back(part);
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
