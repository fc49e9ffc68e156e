// Tree: the folders of a FAT volume, walked depth first, with what was deleted in its place.
//
// Thread-safety: a Tree belongs to one thread. While learning it writes into its Layout.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "filesystem/fat/layout.h"
#include "lantern/file_system.h"

namespace lantern::fat {

// A folder's bytes, and where in the volume each run of them lies.
struct Folder {
  Bytes bytes;
  std::vector<Range> places;
  std::uint64_t slot_offset(std::size_t slot_index) const;
};

struct Visit {
  const Slot& slot;
  std::uint64_t slot_offset;
  bool deleted;         // itself, or inside a deleted folder
  bool folder_is_lost;  // a deleted folder whose first cluster is no longer its own
  const std::vector<std::string>& path;
  std::uint32_t parent_cluster;  // 0: the root
  std::uint64_t parent_slot;     // slot offset of its folder; 0: the root
};

class Tree {
 public:
  enum class Mode { learn, read };
  Tree(const Disk& disk, Layout& layout, Mode mode);

  // Whether a walk that left deleted entries out has passed any.
  bool passed_deleted() const { return passed_deleted_; }

  // Of folders that no table leads on in. A folder that is full takes the next free cluster: most
  // often the one behind the last file it has. What is left goes on where the nearest part of a
  // folder is, those that begin last first: they were most likely ended before the others went on.
  void learn_known_folders();

  std::string root_label();
  void walk(const WalkOptions& options, const std::function<WalkStep(const Visit&)>& visit);

 private:
  struct Level {
    Folder folder;
    std::size_t next_slot = 0;
    bool deleted = false;
    std::uint32_t cluster = 0;  // 0: the root
    std::uint64_t slot_offset = 0;
    std::vector<std::size_t> sorted;  // slots in the order of the walk, when that is not as stored
  };

  std::optional<Slot> next_slot(Level& level, WalkOrder order) const;
  void sort(Level& level, WalkOrder order) const;

  Folder read_root();
  Folder read_folder(std::uint32_t first);
  Folder read_runs(const std::vector<ClusterRun>& runs) const;
  void append(Folder& folder, const Range& place) const;
  std::vector<ClusterRun> learn_runs(std::uint32_t first);
  // Whose parts are looked for: the folder's first cluster (0: not known), and whether all in it
  // must lie behind that.
  struct Owner {
    std::uint32_t first = 0;
    bool in_order = false;
  };
  bool continue_folder(std::vector<ClusterRun>& runs, Owner owner);
  bool continue_behind_files(std::vector<ClusterRun>& runs);
  bool may_go_on_in(std::uint32_t cluster, const Bytes& before, Owner owner, Bytes& bytes);
  static void append_part(std::vector<ClusterRun>& runs, std::uint32_t cluster);
  std::optional<std::uint32_t> find_folder_part(std::uint32_t from, const Bytes& before,
                                                Owner owner);
  bool available(std::uint32_t cluster);
  std::optional<std::uint32_t> folder_cluster(const Slot& slot, const Level& level, bool deleted);
  std::optional<FolderStart> folder_start(std::uint32_t cluster) const;
  bool is_own_start(const Slot& slot, std::uint32_t cluster, std::uint32_t parent) const;
  bool sibling_fits_better(const Slot& slot, std::uint32_t cluster, const Level& level);

  const Disk& disk_;
  Layout& layout_;
  Mode mode_;
  Table::Cursor cursor_;
  bool passed_deleted_ = false;
  std::uint64_t probes_left_;  // bounds the searching that hostile entries can ask for
};

}  // namespace lantern::fat
