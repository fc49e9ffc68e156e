// The first sectors of FAT folders: "." names the folder's own cluster, ".." that of the one it is
// in. Microsoft FAT specification (fatgen103); the layout is in filesystem/fat/slots.h.
//
// Thread-safety: one thread.
#pragma once

#include <memory>
#include <vector>

#include "recover/sweep/finders/folder_heads.h"

namespace lantern {

class FatFinder final : public CatalogFinder {
 public:
  std::unique_ptr<Finder> fresh() const override { return std::make_unique<FatFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override { heads_.join(static_cast<FatFinder&>(later).heads_); }
  void load(Database& database, std::uint64_t swept_to) override;
  std::uint64_t save(Database& database, std::uint64_t swept_to) override;
  bool capped() const override { return heads_.capped(); }
  std::vector<Count> counts() const override { return {{"FAT folders", heads_.all().size()}}; }

  // `number`: a cluster, with the high half, which narrower volumes keep other things in. `parent`
  // 0: the root.
  const std::vector<FolderHead>& heads() const { return heads_.all(); }

 private:
  Kept<FolderHead> heads_;
};

}  // namespace lantern
