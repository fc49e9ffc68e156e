// The first sectors of FAT folders: "." names the folder's own cluster, ".." that of the one it is
// in. Microsoft FAT specification (fatgen103); the layout is in filesystem/fat/slots.h.
//
// Thread-safety: one thread.
#pragma once

#include <cstdint>
#include <memory>
#include <vector>

#include "recover/sweep/sweep.h"

namespace lantern {

struct FolderHead {
  std::uint64_t offset = 0;   // of the disk, bytes
  std::uint32_t cluster = 0;  // with the high half, which narrower volumes keep other things in
  std::uint32_t parent = 0;   // 0: the root
};

class FatFinder final : public Finder {
 public:
  static constexpr std::size_t kMaxHeads = 1u << 20;

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<FatFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  std::vector<FolderHead> heads;  // in order
  bool capped = false;            // there were more
};

}  // namespace lantern
