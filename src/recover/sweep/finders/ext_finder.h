// Folders of ext file systems, by the names "." and ".." that each begins with, stretches of inode
// tables, and journals. Source: the kernel's documentation of ext4 data structures, "Directory
// Entries", "Index Nodes" and "Journal (jbd2)".
//
// Thread-safety: one thread.
#pragma once

#include <memory>
#include <vector>

#include "recover/sweep/finders/folder_heads.h"
#include "recover/sweep/finders/stretches.h"

namespace lantern {

class ExtFinder final : public CatalogFinder {
 public:
  std::unique_ptr<Finder> fresh() const override { return std::make_unique<ExtFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  void load(Database& database, std::uint64_t swept_to) override;
  std::uint64_t save(Database& database, std::uint64_t swept_to) override;
  bool capped() const override { return heads_.capped() || inodes_.capped() || journals_.capped(); }
  std::vector<Count> counts() const override { return {{"ext folders", heads_.all().size()}}; }

  // `number`: of its inode.
  const std::vector<FolderHead>& heads() const { return heads_.all(); }
  // Whole sectors with inodes in them, in order.
  const std::vector<Range>& inodes() const { return inodes_.all(); }
  // From one of its own blocks to the last that is near.
  const std::vector<Range>& journals() const { return journals_.all(); }

 private:
  // Of which inodes may be missing within a table.
  static constexpr std::uint64_t kMaxBetweenInodes = 4096;
  // Between two of a journal's own blocks: the copies that one of them can tell of.
  static constexpr std::uint64_t kMaxBetweenOwn = 1200u << 10;

  Kept<FolderHead> heads_;
  Stretches inodes_{"inode_run", kMaxBetweenInodes};
  Stretches journals_{"journal", kMaxBetweenOwn};
};

}  // namespace lantern
