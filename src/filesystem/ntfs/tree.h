// Tree: the folders of an NTFS volume, walked depth first, with what was deleted in its place.
// Thread-safety: a Tree belongs to one thread.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "filesystem/ntfs/volume_index.h"
#include "lantern/file_system.h"

namespace lantern::ntfs {

struct Visit {
  const std::vector<std::string>& path;
  const Link& link;
  const File& file;
  const FileName* name = nullptr;    // empty: given, or lost
  const GivenName* given = nullptr;  // found elsewhere
  EntryState state = EntryState::active;
  Reference folder;  // record 0: the root, or not known
};

class Tree {
 public:
  // `system`: the file system's own files, too.
  Tree(const Volume& volume, const VolumeIndex& index, bool system)
      : volume_(volume), index_(index), system_(system) {}

  using SameName = std::function<bool(const std::string&, const std::string&)>;
  // The name of a file whose own is lost.
  using NameOf = std::function<std::string(const File&)>;
  void walk(const WalkOptions& options, const SameName& same, const NameOf& name_of,
            const std::function<WalkStep(const Visit&)>& visit);

 private:
  struct Level {
    std::size_t next = 0, end = 0;  // links
    Reference folder;
    bool lost = false;                // deleted or an orphan, or in one
    bool nowhere = false;             // the root's second part: what has no folder
    std::vector<std::size_t> sorted;  // links in the order of the walk, when that is not as stored
  };

  Level level_of(std::uint32_t folder, Reference reference, bool lost, WalkOrder order,
                 const NameOf& name_of) const;
  std::string name(const Link& link, const File& file, const NameOf& name_of) const;
  bool hidden(const Link& link, std::size_t depth) const;

  const Volume& volume_;
  const VolumeIndex& index_;
  bool system_;
};

}  // namespace lantern::ntfs
