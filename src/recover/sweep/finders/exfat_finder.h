// Folders of exFAT: the first sectors of them, as far as can be told, and the entries of folders,
// which say in which cluster each begins; and tables of capitals, one for each volume. The layout
// is in filesystem/exfat/entry_set.h. Source: exFAT file system specification, 6 and 7.
//
// Thread-safety: one thread.
#pragma once

#include <memory>
#include <vector>

#include "recover/sweep/finders/folder_heads.h"

namespace lantern {

struct FolderEntry {
  std::uint64_t offset = 0;   // of the disk, bytes
  std::uint32_t cluster = 0;  // the first of the folder
};

class ExfatFinder final : public CatalogFinder {
 public:
  // What a head's `number` says it is.
  enum Kind : std::uint32_t {
    kFolder,
    kRoot,
    kCapitals,
    kMiddle
  };  // the last: not its first slots

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<ExfatFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  void load(Database& database, std::uint64_t swept_to) override;
  std::uint64_t save(Database& database, std::uint64_t swept_to) override;
  bool capped() const override { return heads_.capped() || entries_.capped(); }
  std::vector<Count> counts() const override { return {{"exFAT folders", heads_.all().size()}}; }

  const std::vector<FolderHead>& heads() const { return heads_.all(); }
  const std::vector<FolderEntry>& entries() const { return entries_.all(); }

 private:
  Kept<FolderHead> heads_;
  Kept<FolderEntry> entries_;
};

// Whether a sector begins as the root folder does: with what it says of the volume itself.
bool begins_exfat_root(ByteView sector);

}  // namespace lantern
