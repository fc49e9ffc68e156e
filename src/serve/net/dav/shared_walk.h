// Everything below a folder of a share, one after the other, in bounded memory.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "serve/net/dav/shared_tree.h"

namespace lantern::net {

class SharedWalk {
 public:
  static constexpr std::size_t kMaxDepth = 128;
  static constexpr std::size_t kAtOnce = 256;  // items of a folder that are held

  SharedWalk(SharedTree& tree, std::vector<std::string> below) : tree_(tree) {
    open_.push_back({std::move(below), 0, {}, 0});
  }

  struct Met {
    std::vector<std::string> path;
    SharedItem item;
  };
  // A folder before what is in it. Empty: that was all. A folder that cannot be read is passed
  // over.
  std::optional<Met> next();
  // Of how many folders nothing could be told.
  std::size_t unread() const { return unread_; }

 private:
  struct Open {
    std::vector<std::string> path;
    std::size_t next = 0;  // item to be listed next
    std::vector<SharedItem> held;
    std::size_t at = 0;  // of those
  };
  SharedTree& tree_;
  std::vector<Open> open_;
  std::size_t unread_ = 0;
};

}  // namespace lantern::net
