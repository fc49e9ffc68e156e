// Tree: the folders of an ext volume, walked depth first, with what was deleted in its place.
// Thread-safety: a Tree belongs to one thread.
#pragma once

#include <functional>
#include <string>
#include <unordered_set>
#include <vector>

#include "filesystem/ext/deleted/deleted_index.h"
#include "filesystem/ext/folder.h"

namespace lantern::ext {

struct Visit {
  const std::vector<std::string>& path;
  const Inode* inode = nullptr;  // empty: it cannot be read
  std::uint32_t number = 0;
  const Lost* lost = nullptr;  // of a lost entry
  bool in_lost = false;        // active in a folder that is lost
  std::uint8_t type = 0;       // as the folder has it
  InodeKey folder{};           // that it is in
  std::uint64_t place = 0;     // in that folder, bytes
};

class Tree {
 public:
  // `index`: may be empty when lost entries are not asked for.
  Tree(const Volume& volume, const DeletedIndex* index) : volume_(volume), index_(index) {}

  // Names of `options.under` are compared by `same`.
  using SameName = std::function<bool(const std::string&, const std::string&)>;
  void walk(const WalkOptions& options, const SameName& same,
            const std::function<WalkStep(const Visit&)>& visit);

 private:
  // An entry of a folder, or a lost one that belongs there.
  struct Item {
    std::string name;
    std::uint32_t number = 0;
    std::uint8_t type = 0;
    std::uint64_t place = 0;
    const Lost* lost = nullptr;
  };

  struct Level {
    std::optional<FolderReader> reader;  // empty: done, or a lost folder without one
    std::vector<std::size_t> lost;       // of the index
    std::size_t next_lost = 0;
    InodeKey key{};
    bool in_lost = false;  // found through a lost folder
    std::vector<Item> sorted;
    std::size_t next_sorted = 0;
  };

  Level level_of(const Inode& inode, bool in_lost, bool is_lost) const;
  std::optional<Item> next_stored(Level& level) const;
  std::optional<Item> next(Level& level, WalkOrder order) const;
  void sort(Level& level, WalkOrder order) const;

  const Volume& volume_;
  const DeletedIndex* index_;
};

}  // namespace lantern::ext
