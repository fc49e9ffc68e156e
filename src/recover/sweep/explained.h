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
#include "recover/sweep/fat_finder.h"
#include "recover/sweep/ntfs_finder.h"

namespace lantern {

class Explained {
 public:
  Explained(const SourcePtr& disk, const Context& context) : disk_(disk), context_(context) {}

  // A volume of this format that can be read, bytes of the disk.
  void add(std::string_view format, Range volume);
  // Before asking.
  void settle();

  // Records that lie in no file table.
  std::vector<RecordRun> loose(const std::vector<RecordRun>& runs) const;
  // Folders that no volume leads to.
  std::vector<FolderHead> loose(const std::vector<FolderHead>& heads) const;
  // Whether a byte of the disk is a volume's table or root folder.
  bool is_fat_head(std::uint64_t at) const { return fat_heads_.meets({at, 1}); }

 private:
  void add_ntfs(Range volume);
  void add_fat(Range volume);

  const SourcePtr& disk_;
  const Context& context_;
  RangeSet file_tables_, fat_heads_;
  std::unordered_set<std::uint64_t> folders_;  // where they begin on the disk
};

}  // namespace lantern
