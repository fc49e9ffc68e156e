// InodeHistories: what the journal tells of inodes that are not now what they were once. A number
// that was used again has several histories, told apart by generation.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "filesystem/ext/journal.h"

namespace lantern::ext {

constexpr std::uint32_t kFirstOwnInode = 11;  // those before it are the file system's

// Where inode tables lie.
class InodeTables {
 public:
  explicit InodeTables(const Volume& volume);

  // The first inode of a block, when it is of an inode table.
  std::optional<std::uint32_t> first_inode_of(std::uint64_t block) const;
  // Those that were written of each.
  std::vector<InodeTable> written() const;

 private:
  const Volume& volume_;
  std::map<std::uint64_t, InodeTable> tables_;  // by offset
};

struct InodeHistory {
  std::uint32_t first_seen = 0;  // sequences
  std::uint32_t last_alive = 0;
  std::uint32_t died = 0;      // 0: not seen
  std::optional<Inode> inode;  // the newest that was alive; empty for one that still is
  // What it held before that, with the first and last transactions it was seen in.
  struct Older {
    Inode inode;
    std::uint32_t first_seen = 0;
    std::uint32_t last_seen = 0;
  };
  std::vector<Older> older;
  std::uint32_t content_since = 0;  // the transaction `inode` was first seen to hold this in
};

class InodeHistories {
 public:
  using OfInode = std::map<std::uint32_t, InodeHistory>;  // by generation

  // Reads every copy of an inode in the journal, keeps those that differ from what is there now.
  InodeHistories(const Volume& volume, const History& history, const InodeTables& tables);

  const std::unordered_map<std::uint32_t, OfInode>& all() const { return histories_; }
  std::size_t count(std::uint32_t number) const;

  // Which life of an inode a name of transaction `sequence` means; 0: of an unknown time.
  std::optional<std::uint32_t> generation_at(std::uint32_t number, std::uint32_t sequence) const;

 private:
  template <typename Use>
  void each_record(const History& history, const InodeTables& tables, Use use) const;
  void learn(const Inode& inode, std::uint32_t sequence);
  void settle();

  const Volume& volume_;
  std::unordered_set<std::uint32_t> changed_;  // numbers
  std::unordered_map<std::uint32_t, OfInode> histories_;
};

// The inode as it is now; empty when it is in use no more.
std::optional<Inode> inode_now(const Volume& volume, std::uint32_t number);

}  // namespace lantern::ext
