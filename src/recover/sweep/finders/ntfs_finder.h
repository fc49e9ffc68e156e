// Records of NTFS file tables and blocks of its folders' indexes, wherever they lie.
//   record: as in filesystem/ntfs/record.h  0x1C 4 bytes of it  0x2C 4 its number, where the guard
//     numbers begin at 0x30 or behind
//   index block: as in filesystem/ntfs/deleted/index.h  0x10 8 its place in the index
// Source: the Linux kernel's documentation and headers of NTFS.
//
// Thread-safety: one thread.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "recover/sweep/finders/catalog_finder.h"
#include "recover/sweep/finders/kept.h"

namespace lantern {

// Records one behind the other, with numbers that count on.
struct RecordRun {
  std::uint64_t offset = 0;  // of the disk, bytes
  std::uint64_t number = 0;  // of the first
  std::uint64_t count = 0;
  std::uint64_t record_bytes = 0;
  bool numbered = true;  // false: none of them says its number

  std::uint64_t end() const { return offset + count * record_bytes; }
};

struct IndexBlock {
  std::uint64_t offset = 0;  // of the disk, bytes
  std::uint64_t folder = 0;  // record of the folder whose names are in it
  std::uint64_t vcn = 0;
};

class NtfsFinder final : public CatalogFinder {
 public:
  static constexpr std::size_t kMaxRuns = 1u << 20;

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<NtfsFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  void load(Database& database, std::uint64_t swept_to) override;
  std::uint64_t save(Database& database, std::uint64_t swept_to) override;
  bool capped() const override { return capped_ || blocks_.capped(); }
  std::vector<Count> counts() const override;

  const std::vector<RecordRun>& runs() const { return runs_; }  // in order
  const std::vector<IndexBlock>& blocks() const { return blocks_.all(); }

 private:
  static bool can_be(const RecordRun& run);
  void record(std::uint64_t offset, ByteView bytes);
  void index_block(std::uint64_t offset, ByteView bytes);
  void add(const RecordRun& run);

  std::vector<RecordRun> runs_;
  std::size_t written_ = 0;    // of them
  std::uint64_t records_ = 0;  // of all of them
  bool capped_ = false;        // there were more
  Kept<IndexBlock> blocks_;
};

}  // namespace lantern
