// Which inodes lie where, of an ext volume that nothing at its head tells of: from folders of it
// whose records were found, in its inode tables or in copies of their blocks in a journal.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "filesystem/ext/journal.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/file_system.h"

namespace lantern {

constexpr std::array<std::uint64_t, 4> kInodeBytes = {256, 128, 512, 1024};  // the usual first
constexpr std::size_t kMinInodeRecord = 128;
constexpr std::size_t kMaxTablePieces = 16'384;  // of a volume

// What a volume has to be for its folders to be where they are.
struct ExtShape {
  std::uint64_t block = 0;  // bytes
  std::uint64_t start = 0;  // of the disk
  friend bool operator<(const ExtShape& a, const ExtShape& b) {
    return a.block != b.block ? a.block < b.block : a.start < b.start;
  }
};

// A folder by its number, and where its record belongs on the disk.
struct FolderRecord {
  std::uint32_t number = 0;
  std::uint64_t offset = 0;
};

// By the steps between records, and by tables that begin with a block. `records`: by offset.
std::uint64_t inode_bytes_of(const std::vector<FolderRecord>& records, const ExtShape& shape);

// Pieces of the tables (ext::by_hand), by number: of `stretches`, bytes of the disk with inodes in
// them, and what journals have of tables that are lost. Throws Error{stopped}.
std::vector<TablePiece> inode_tables_of(const SourcePtr& disk, const ExtShape& shape,
                                        std::uint64_t inode_bytes,
                                        const std::vector<FolderRecord>& records,
                                        const std::vector<Range>& stretches,
                                        const std::vector<ext::LooseHistory>& histories,
                                        const Context& context);

}  // namespace lantern
