#include "serve/net/dav/shared_tree.h"

#include <fmt/format.h>

namespace lantern::net {
namespace {

MountParts parts_of(bool deleted) {
  MountParts parts;
  parts.deleted = deleted;
  parts.disks = parts.earlier = parts.findings = false;
  return parts;
}

}  // namespace

SharedTree::SharedTree(const Target& target, const LiveDisk& live, const Session& session,
                       bool deleted, LocalToUtc local_to_utc)
    : tree_(target, live, session, parts_of(deleted)), local_to_utc_(std::move(local_to_utc)) {
  // What is alone in its folder needs no folder.
  for (std::uint64_t number = MountTree::kRoot;
       tree_.node(number).kind == MountNode::Kind::fixed;) {
    const MountListingPtr inside = tree_.listing(number);
    if (inside->size() != 1) break;
    top_.emplace_back(inside->item(0).name);
    number = inside->item(0).node;
  }
}

bool SharedTree::with_node(const std::vector<std::string>& path,
                           const std::function<void(const MountNode&)>& use) {
  std::uint64_t number = MountTree::kRoot;
  std::vector<std::string> names = top_;
  names.insert(names.end(), path.begin(), path.end());
  for (const std::string& name : names) {
    const MountNode* const found =
        tree_.node(number).folder() ? tree_.look_up(number, name) : nullptr;
    if (found == nullptr) return false;
    number = found->number;
    held_.push_back(number);
  }
  use(tree_.node(number));
  return true;
}

// What was read of a folder is found again for as long as it is held.
void SharedTree::let_go() {
  for (; held_.size() > kMaxHeld; held_.pop_front()) tree_.forget(held_.front(), 1);
}

SharedItem SharedTree::item_of(const MountNode& node) {
  SharedItem item;
  item.name = node.name;
  item.folder = node.folder();
  if (node.kind != MountNode::Kind::entry) return item;
  const Entry& entry = node.entry;
  item.deleted = entry.state != EntryState::active;
  item.size_bytes = item.folder ? 0 : entry.size_bytes;
  item.intact = entry.intact;
  const auto seconds = [&](const std::optional<Timestamp>& time) -> std::optional<std::int64_t> {
    if (!time) return std::nullopt;
    return time->local && local_to_utc_ ? local_to_utc_(time->seconds) : time->seconds;
  };
  item.modified = seconds(entry.modified);
  item.created = seconds(entry.created);
  item.tag = fmt::format("{:x}-{:x}-{:x}", std::hash<std::string>{}(entry.id), entry.size_bytes,
                         static_cast<std::uint64_t>(item.modified.value_or(0)));
  return item;
}

std::optional<SharedItem> SharedTree::find(const std::vector<std::string>& path) {
  const std::lock_guard lock(mutex_);
  let_go();
  std::optional<SharedItem> found;
  with_node(path, [&](const MountNode& node) { found = item_of(node); });
  return found;
}

std::vector<SharedItem> SharedTree::list(const std::vector<std::string>& path, std::size_t from,
                                         std::size_t count) {
  const std::lock_guard lock(mutex_);
  let_go();
  std::vector<SharedItem> items;
  with_node(path, [&](const MountNode& folder) {
    if (!folder.folder()) return;
    const std::uint64_t number = folder.number;
    const MountListingPtr inside = tree_.listing(number);
    for (std::size_t i = from; i < inside->size() && items.size() < count; ++i) {
      const MountNode* const child = tree_.look_up(number, std::string(inside->item(i).name));
      if (child == nullptr) continue;
      items.push_back(item_of(*child));
      tree_.forget(child->number, 1);
    }
  });
  return items;
}

SourcePtr SharedTree::open(const std::vector<std::string>& path) {
  const std::lock_guard lock(mutex_);
  let_go();
  SourcePtr content;
  with_node(path, [&](const MountNode& node) {
    if (!node.folder()) content = tree_.content(node);
  });
  return content;
}

}  // namespace lantern::net
