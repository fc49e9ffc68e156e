// What the volumes that can be read account for: structures that lie there are none of a lost one.
//
// Thread-safety: once settled it may be read from any thread.
#pragma once

#include <cstdint>
#include <unordered_set>
#include <vector>

#include "base/range_set.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/file_system.h"
#include "recover/sweep/finders/exfat_finder.h"
#include "recover/sweep/finders/ext_finder.h"
#include "recover/sweep/finders/fat_finder.h"
#include "recover/sweep/finders/ntfs_finder.h"
#include "recover/sweep/finders/volume_finder.h"

namespace lantern {

// Adds what a volume has in use, bytes of the disk.
void add_used(const FileSystem& files, Range volume, RangeSet& used);

class Explained {
 public:
  Explained(const SourcePtr& disk, const Context& context) : disk_(disk), context_(context) {}

  // A volume that can be read, bytes of the disk. `by_hand`: by figures that nothing at its head
  // tells.
  void add(const FileSystem& files, Range volume, bool by_hand);
  // Before asking.
  void settle();

  // Records that lie in no file table.
  std::vector<RecordRun> loose(const std::vector<RecordRun>& runs) const;
  // Folders of FAT that no volume leads to.
  std::vector<FolderHead> loose(const std::vector<FolderHead>& heads) const;
  // What lies outside of what ext, or exFAT volumes have in use.
  template <typename Found>
  std::vector<Found> loose_of_ext(const std::vector<Found>& all) const {
    return outside(ext_used_, all);
  }
  template <typename Found>
  std::vector<Found> loose_of_exfat(const std::vector<Found>& all) const {
    return outside(exfat_used_, all);
  }
  // Stretches of inode tables, cut to what lies outside of that.
  std::vector<Range> loose_stretches(const std::vector<Range>& stretches) const;
  // Whether a byte of the disk is a volume's table or root folder.
  bool is_fat_head(std::uint64_t at) const { return fat_heads_.meets({at, 1}); }
  bool is_of_exfat(std::uint64_t at) const { return exfat_used_.meets({at, 1}); }

 private:
  void add_ntfs(Range volume);
  void add_fat(Range volume);
  void add_ext(const FileSystem& files, Range volume, bool by_hand);

  template <typename Found>
  static std::vector<Found> outside(const RangeSet& used, const std::vector<Found>& all) {
    std::vector<Found> loose;
    for (const Found& found : all)
      if (!used.meets({found.offset, 1})) loose.push_back(found);
    return loose;
  }

  const SourcePtr& disk_;
  const Context& context_;
  RangeSet file_tables_, fat_heads_, ext_used_, exfat_used_;
  std::unordered_set<std::uint64_t> folders_;  // where they begin on the disk
};

}  // namespace lantern
