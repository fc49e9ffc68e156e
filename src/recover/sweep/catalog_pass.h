// The last finder of a pass: keeps a map of what the blocks of the disk are, and writes what all
// finders found until then into the catalog from time to time, with the place it was found up to.
//
// Thread-safety: one thread.
#pragma once

#include <chrono>
#include <string>
#include <vector>

#include "catalog/catalog.h"
#include "recover/sweep/disk_map.h"
#include "recover/sweep/finders/catalog_finder.h"

namespace lantern {

// What the blocks of a piece are.
class BlockFinder final : public Finder {
 public:
  using Kind = DiskMap::Kind;
  struct Block {
    Range range;  // of the disk; empty: none yet
    Kind kind = Kind::zero;
  };

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<BlockFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;

  std::vector<Block> blocks;
  std::vector<Range> unreadable;
  std::uint64_t end = 0;  // of what was seen
};

class CatalogPass final : public Finder {
 public:
  // What the catalog has of an earlier pass is given to the finders again.
  CatalogPass(Catalog& catalog, std::vector<CatalogFinder*> finders);

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<BlockFinder>(); }
  void look(const SweptPiece& /*piece*/) override {}
  void join(Finder& later) override;
  // Writes all there is, up to this byte of the disk.
  void mark(std::uint64_t swept_to);
  const DiskMap& map() const { return map_; }
  // Once all was swept: what marks have cut is one block again.
  void join_blocks();

 private:
  void add_block(const BlockFinder::Block& block);
  void write_block();

  Catalog& catalog_;
  std::vector<CatalogFinder*> finders_;
  DiskMap map_;
  BlockFinder::Block block_;
  std::vector<BlockFinder::Block> blocks_;  // not written yet
  std::vector<Range> unreadable_;
  std::uint64_t marked_ = 0;  // byte of the disk
  std::chrono::steady_clock::time_point last_mark_ = std::chrono::steady_clock::now();
};

}  // namespace lantern
