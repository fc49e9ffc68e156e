#include "serve/net/dav/shared_walk.h"

#include "lantern/error.h"

namespace lantern::net {

std::optional<SharedWalk::Met> SharedWalk::next() {
  while (!open_.empty()) {
    Open& folder = open_.back();
    if (folder.at == folder.held.size()) {
      try {
        folder.held = tree_.list(folder.path, folder.next, kAtOnce);
      } catch (const Error&) {
        folder.held.clear();
        ++unread_;
      }
      folder.next += folder.held.size();
      folder.at = 0;
      if (folder.held.empty()) {
        open_.pop_back();
        continue;
      }
    }
    Met met{folder.path, folder.held[folder.at++]};
    met.path.push_back(met.item.name);
    if (met.item.folder && open_.size() < kMaxDepth)
      open_.push_back({met.path, 0, {}, 0});
    else if (met.item.folder)
      ++unread_;
    return met;
  }
  return std::nullopt;
}

}  // namespace lantern::net
