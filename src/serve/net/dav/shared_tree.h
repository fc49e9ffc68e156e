// The files of a disk as a share has them: by their paths, for many connections at once.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <deque>
#include <functional>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "lantern/timestamp.h"
#include "serve/mount_tree.h"

namespace lantern::net {

struct SharedItem {
  std::string name;
  bool folder = false;
  bool deleted = false;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified, created;  // seconds since 1970-01-01, UTC
  std::optional<double> intact;                   // of a deleted file
  std::string tag;                                // another one for another content; hexadecimal
};

class SharedTree {
 public:
  // A volume or folder of one disk is at the top itself, unless deleted files are shown beside it.
  SharedTree(const Target& target, const LiveDisk& live, const Session& session, bool deleted,
             LocalToUtc local_to_utc);

  // Empty: there is no such item. These throw Error where it cannot be read.
  std::optional<SharedItem> find(const std::vector<std::string>& path);
  // What lies in a folder, from the item of this index on, at most so many; the last come in a
  // list that is shorter.
  std::vector<SharedItem> list(const std::vector<std::string>& path, std::size_t from,
                               std::size_t count);
  // Empty: there is no such file. May be read after that from any thread.
  SourcePtr open(const std::vector<std::string>& path);

 private:
  static constexpr std::size_t kMaxHeld = 4096;  // nodes of the tree

  // Calls `use` with the node. False: there is no such path.
  bool with_node(const std::vector<std::string>& path,
                 const std::function<void(const MountNode&)>& use);
  SharedItem item_of(const MountNode& node);
  void let_go();

  std::mutex mutex_;  // of all that follows
  MountTree tree_;
  std::deque<std::uint64_t> held_;  // in the order they were asked for
  LocalToUtc local_to_utc_;
  std::vector<std::string> top_;  // where the share begins in the tree
};

}  // namespace lantern::net
