// An ext volume whose head is lost, by figures that are given instead: bytes of a "block" and of an
// "inode", or "superblock", the byte where one stands that tells them; and what was found of its
// inode tables: as pieces, or "table", the byte where the table begins whose first inode is 1, with
// its "table_bytes". Nothing says which blocks are in use then: all count as taken.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <optional>
#include <vector>

#include "filesystem/ext/volume.h"
#include "lantern/file_system.h"

namespace lantern::ext {

constexpr std::uint64_t kFolderPiece = std::uint64_t{1} << 40;

struct ByHand {
  Superblock super;
  std::vector<InodeTable> tables;  // empty: groups tell
  std::vector<LooseFolder> folders;
};

// Empty: the figures cannot be. FileSystemOptions::table_pieces: parts of inode tables; their
// `table_offset` is the number of the first inode. Those of which it is kFolderPiece and a number
// are blocks of that folder, for where its inode is in none of the others.
std::optional<ByHand> by_hand(const ByteSource& volume, const FileSystemOptions& options);

}  // namespace lantern::ext
