#include "filesystem/ext/by_hand.h"

#include <algorithm>

#include "base/checked.h"

namespace lantern::ext {
namespace {

constexpr std::uint64_t kMinBlock = 1024, kMaxBlock = 65536;
constexpr std::uint64_t kMinInode = 128;
constexpr std::uint32_t kJournalInode = 8;
constexpr std::size_t kSample = 256u << 10;  // bytes of inodes that are looked at

std::vector<InodeTable> tables_of(const std::vector<TablePiece>& pieces, std::uint64_t inode_bytes,
                                  std::uint64_t volume_bytes) {
  std::vector<InodeTable> tables;
  for (const TablePiece& piece : pieces) {
    const std::uint64_t offset = piece.volume_offset;
    if (piece.table_offset == 0 || piece.table_offset > 0xFFFFFFFF || offset >= volume_bytes)
      continue;
    const std::uint64_t there = std::min(piece.length, volume_bytes - offset);
    const std::uint64_t count = std::min(there / inode_bytes, 0x100000000 - piece.table_offset);
    if (count > 0) tables.push_back({offset, piece.table_offset, count});
  }
  std::sort(tables.begin(), tables.end(),
            [](const InodeTable& a, const InodeTable& b) { return a.first < b.first; });
  // Of two that tell the same inodes the first one has them.
  std::vector<InodeTable> apart;
  for (InodeTable table : tables) {
    const std::uint64_t before = apart.empty() ? 0 : apart.back().end();
    if (table.end() <= before) continue;
    const std::uint64_t told = before > table.first ? before - table.first : 0;
    apart.push_back({table.offset + told * inode_bytes, table.first + told, table.count - told});
  }
  return apart;
}

std::vector<LooseFolder> folders_of(const std::vector<TablePiece>& pieces,
                                    const std::vector<InodeTable>& tables, std::uint64_t block,
                                    std::uint64_t volume_bytes) {
  constexpr std::uint64_t kMaxBlocks = 32'768;  // of one run
  std::vector<LooseFolder> folders;
  for (const TablePiece& piece : pieces) {
    const std::uint64_t number = piece.table_offset - kFolderPiece;
    if (piece.table_offset < kFolderPiece || number == 0 || number > 0xFFFFFFFF ||
        piece.volume_offset >= volume_bytes || piece.volume_offset % block != 0)
      continue;
    const auto table =
        std::upper_bound(tables.begin(), tables.end(), number,
                         [](std::uint64_t n, const InodeTable& part) { return n < part.first; });
    if (table != tables.begin() && number < std::prev(table)->end()) continue;
    const std::uint64_t count =
        std::min({piece.length / block, (volume_bytes - piece.volume_offset) / block, kMaxBlocks});
    if (count > 0)
      folders.push_back({static_cast<std::uint32_t>(number), piece.volume_offset / block, count});
  }
  std::sort(folders.begin(), folders.end(),
            [](const LooseFolder& a, const LooseFolder& b) { return a.number < b.number; });
  return folders;
}

// What its inodes show of the features that a superblock would tell.
void learn_features(Superblock& super, const std::vector<InodeTable>& tables,
                    const ByteSource& volume) {
  super.needed = kFileType;
  for (const InodeTable& table : tables) {
    Bytes sample(static_cast<std::size_t>(
        std::min<std::uint64_t>(kSample, table.count * super.inode_bytes)));
    sample.resize(volume.read(table.offset, sample).length);
    for (std::size_t at = 0; at + super.inode_bytes <= sample.size(); at += super.inode_bytes) {
      const std::uint64_t number = table.first + at / super.inode_bytes;
      const Inode inode = parse_inode(super, static_cast<std::uint32_t>(number),
                                      ByteView(sample).subspan(at, super.inode_bytes));
      if (!inode.kind() || inode.links == 0) continue;
      if (inode.has(kInExtents)) super.needed |= kExtents;
      if (inode.has(kInline)) super.needed |= kInlineData;
      if (number != kJournalInode || !inode.file() || !inode.has_content()) continue;
      super.ignorable = kHasJournal;
      super.needed |= kRecover;
      super.journal_inode = kJournalInode;
    }
  }
}

}  // namespace

std::optional<ByHand> by_hand(const ByteSource& volume, const FileSystemOptions& options) {
  const auto figure = [&](const char* key) {
    const auto given = options.geometry.find(key);
    return given == options.geometry.end() ? std::uint64_t{0} : given->second;
  };
  ByHand made;
  std::uint64_t block = figure("block"), inode = figure("inode");
  if (options.geometry.contains("superblock")) {
    const auto found = superblock_at(volume, figure("superblock"));
    if (found.empty()) return std::nullopt;
    made.super = found.front();
    block = made.super.block_bytes;
    inode = made.super.inode_bytes;
  } else if (!is_power_of_two(block) || block < kMinBlock || block > kMaxBlock ||
             !is_power_of_two(inode) || inode < kMinInode || inode > block) {
    return std::nullopt;
  }
  std::vector<TablePiece> pieces = options.table_pieces;
  if (const std::uint64_t table = figure("table"); table != 0)
    pieces.push_back({1, table, figure("table_bytes")});
  made.tables = tables_of(pieces, inode, volume.size());
  made.folders = folders_of(pieces, made.tables, block, volume.size());
  if (options.geometry.contains("superblock")) return made;
  if (made.tables.empty() || volume.size() / block < 2) return std::nullopt;
  // As far as the volume goes: nothing says where it ends.
  Superblock& super = made.super;
  super.place = figure("table");
  super.block_bytes = static_cast<std::uint32_t>(block);
  super.inode_bytes = static_cast<std::uint32_t>(inode);
  super.first_data_block = block == kMinBlock ? 1 : 0;
  super.block_count = std::min(volume.size() / block, (std::uint64_t{1} << 48) - 1);
  const std::uint64_t last = std::max<std::uint64_t>(
      made.tables.back().end() - 1, made.folders.empty() ? 0 : made.folders.back().number);
  super.inode_count = static_cast<std::uint32_t>(std::min<std::uint64_t>(last, 0xFFFFFFFF));
  super.inodes_per_group = super.inode_count;
  super.blocks_per_group =
      static_cast<std::uint32_t>(std::min<std::uint64_t>(super.block_count, 0xFFFFFFFF));
  learn_features(super, made.tables, volume);
  return made;
}

}  // namespace lantern::ext
