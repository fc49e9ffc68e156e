#include "serve/mount_tree.h"

#include <fmt/format.h>

#include <algorithm>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// A name any program can be shown: as it is on the disk, but for what a name cannot be.
std::string shown_name(const std::string& name) {
  const bool can_be = !name.empty() && name != "." && name != ".." && name.size() <= 255 &&
                      name.find('/') == std::string::npos && name.find('\0') == std::string::npos;
  return can_be ? name : safe_file_name(name);
}

// Active, and nothing known against it.
bool is_well(const Entry& entry) {
  return entry.state == EntryState::active && entry.intact.value_or(1) == 1;
}

// "0.63": never 1 for less than all.
std::string share_text(const Entry& entry) {
  if (!entry.intact) return "unknown";
  return fmt::format("{:.2f}", std::min(*entry.intact, 0.99));
}

}  // namespace

MountTree::MountTree(const Target& target, const LiveDisk& live, const Context& context)
    : target_(target), context_(context) {
  number_node({});
  MountNode findings;
  findings.kind = MountNode::Kind::findings;
  findings.name = "findings.txt";
  add(kRoot, std::move(findings));
  const DiskLayer& disk = target_.disk();
  const bool folder = target_.entry && target_.entry->kind == EntryKind::folder;
  if (folder && target_.volume) {
    for (std::size_t i = 0; i < disk.volumes.size(); ++i)
      if (target_.volume == disk.volumes.share(i)) {
        add_root(kRoot, i, "folder", MountNode::Kind::active);
        add_root(kRoot, i, "deleted", MountNode::Kind::deleted);
      }
    return;
  }
  const std::uint64_t disks = add_fixed(kRoot, "disks").number;
  for (const LiveDisk::Raw& one : live.raws()) {
    MountNode raw;
    raw.kind = MountNode::Kind::raw;
    raw.name = one.name + ".raw";
    raw.raw = &one;
    add(disks, std::move(raw));
  }
  if (live.is_writable()) return;
  const std::uint64_t volumes = add_fixed(kRoot, "volumes").number;
  const std::uint64_t deleted = add_fixed(kRoot, "deleted").number;
  for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
    if (target_.volume && target_.volume != disk.volumes.share(i)) continue;
    const std::string name = std::to_string(disk.volumes[i].row.number);
    if (!disk.volumes[i].file_system()) continue;
    add_root(volumes, i, name, MountNode::Kind::active);
    add_root(deleted, i, name, MountNode::Kind::deleted);
  }
}

// The folder of the target, or the root of a volume.
void MountTree::add_root(std::uint64_t parent, std::size_t volume, std::string name,
                         MountNode::Kind kind) {
  MountNode root;
  root.kind = kind;
  root.name = std::move(name);
  root.volume = volume;
  if (target_.entry) root.entry = *target_.entry;
  root.entry.kind = EntryKind::folder;
  root.loaded = false;
  add(parent, std::move(root));
}

MountNode& MountTree::number_node(MountNode node) {
  node.number = ++last_number_;
  auto& place = nodes_[node.number];
  place = std::make_unique<MountNode>(std::move(node));
  return *place;
}

MountNode& MountTree::add(std::uint64_t parent, MountNode node) {
  MountNode& folder = *nodes_.at(parent);
  // Two of one name are both shown.
  if (folder.by_name.contains(node.name))
    node.name = safe_file_name(fmt::format("{} (@{})", node.name, node.entry.id));
  if (folder.by_name.contains(node.name)) node.name += fmt::format(" ({})", last_number_ + 1);
  node.parent = parent;
  MountNode& added = number_node(std::move(node));
  folder.by_name.emplace(added.name, added.number);
  return added;
}

MountNode& MountTree::add_fixed(std::uint64_t parent, std::string name) {
  MountNode node;
  node.name = std::move(name);
  return add(parent, std::move(node));
}

const FileSystem& MountTree::files_of(const MountNode& node) const {
  return *target_.disk().volumes[node.volume].file_system();
}

void MountTree::load(std::uint64_t number) {
  MountNode& node = *nodes_.at(number);
  if (node.loaded) return;
  node.loaded = true;
  if (node.kind == MountNode::Kind::deleted) load_deleted(node);
}

MountListingPtr MountTree::listing(std::uint64_t number) {
  const auto held = std::find_if(listed_.begin(), listed_.end(),
                                 [&](const Listed& one) { return one.number == number; });
  if (held != listed_.end()) {
    listed_.splice(listed_.begin(), listed_, held);
    return listed_.front().listing;
  }
  load(number);
  const MountNode& folder = node(number);
  if (folder.kind != MountNode::Kind::active) {
    // Its nodes are kept: nothing is gained by holding the list of them.
    auto kept = std::make_shared<MountListing>();
    for (const auto& [name, child] : folder.by_name)
      kept->children.push_back({name, child, node(child).entry});
    return kept;
  }
  listed_.push_front({number, list_active(folder)});
  listed_entries_ += listed_.front().listing->children.size();
  while (listed_entries_ > kMaxHeld && listed_.size() > 1) {
    listed_entries_ -= listed_.back().listing->children.size();
    listed_.pop_back();
  }
  return listed_.front().listing;
}

const MountNode* MountTree::look_up(std::uint64_t parent, const std::string& name) {
  const MountNode& folder = node(parent);
  if (folder.kind != MountNode::Kind::active) {
    load(parent);
    const auto found = folder.by_name.find(name);
    if (found == folder.by_name.end()) return nullptr;
    ++nodes_.at(found->second)->lookups;
    return &node(found->second);
  }
  const std::string key = std::to_string(parent) + "/" + name;
  auto known = known_.find(key);
  if (known == known_.end()) {
    const MountListingPtr inside = listing(parent);
    const auto found = inside->by_name.find(name);
    if (found == inside->by_name.end()) return nullptr;
    MountNode child;
    child.kind = MountNode::Kind::active;
    child.parent = parent;
    child.kept = false;
    child.name = name;
    child.volume = folder.volume;
    child.entry = inside->children[found->second].entry;
    known = known_.emplace(key, number_node(std::move(child)).number).first;
    if (!node(known->second).folder()) {
      files_.push_back(known->second);
      ++held_files_;
    }
  }
  MountNode& child = *nodes_.at(known->second);
  ++child.lookups;
  return &child;
}

void MountTree::forget(std::uint64_t number, std::uint64_t lookups) {
  const auto found = nodes_.find(number);
  if (found == nodes_.end()) return;
  MountNode& node = *found->second;
  node.lookups -= std::min(node.lookups, lookups);
  if (node.lookups > 0 || node.kept) return;
  if (!node.folder()) --held_files_;
  known_.erase(std::to_string(node.parent) + "/" + node.name);
  nodes_.erase(found);
}

std::optional<MountTree::Known> MountTree::one_too_many() {
  while (!files_.empty() && (held_files_ > kMaxFiles || files_.size() > 2 * kMaxFiles)) {
    const auto found = nodes_.find(files_.front());
    files_.pop_front();
    if (found != nodes_.end()) return Known{found->second->parent, found->second->name};
  }
  return std::nullopt;
}

MountListingPtr MountTree::list_active(const MountNode& node) {
  auto listing = std::make_shared<MountListing>();
  WalkOptions options;
  options.under = node.entry.path;
  options.max_depth = 1;
  files_of(node).walk(options, [&](const Entry& entry) {
    // Another folder of the same path is not this one.
    if (entry.parent != node.entry.id) return WalkStep::go_on;
    std::string name = shown_name(entry.path.back());
    // Two of one name are both shown.
    if (listing->by_name.contains(name))
      name = safe_file_name(fmt::format("{} (@{})", name, entry.id));
    if (!listing->by_name.emplace(name, listing->children.size()).second) return WalkStep::go_on;
    listing->children.push_back({std::move(name), 0, entry});
    return WalkStep::go_on;
  });
  return listing;
}

// The folder of a path below `at`, which has so many names above it; made when it is not there.
std::uint64_t MountTree::deleted_folder(std::uint64_t at, const std::vector<std::string>& path,
                                        std::size_t above, std::size_t volume) {
  for (std::size_t i = above; i + 1 < path.size(); ++i) {
    const std::string name = shown_name(path[i]);
    const auto found = node(at).by_name.find(name);
    if (found != node(at).by_name.end() && node(found->second).folder()) {
      at = found->second;
      continue;
    }
    MountNode folder;
    folder.kind = MountNode::Kind::deleted;
    folder.name = name;
    folder.volume = volume;
    folder.entry.kind = EntryKind::folder;
    folder.entry.path.assign(path.begin(), path.begin() + static_cast<std::ptrdiff_t>(i) + 1);
    at = add(at, std::move(folder)).number;
  }
  return at;
}

// Everything deleted from a volume, at once, under the folders it was in.
void MountTree::load_deleted(MountNode& node) {
  WalkOptions options;
  options.active = false;
  options.deleted = true;
  const std::size_t above = node.entry.path.size();
  const auto take = [&](const Entry& entry) {
    if (entry.state == EntryState::active) return WalkStep::go_on;
    const std::uint64_t parent = deleted_folder(node.number, entry.path, above, node.volume);
    const std::string name = shown_name(entry.path.back());
    // A folder may have been made for what it holds.
    const auto there = this->node(parent).by_name.find(name);
    if (entry.kind == EntryKind::folder && there != this->node(parent).by_name.end() &&
        this->node(there->second).folder())
      return WalkStep::go_on;
    MountNode inside;
    inside.kind = MountNode::Kind::deleted;
    inside.name = name;
    inside.volume = node.volume;
    inside.entry = entry;
    add(parent, std::move(inside));
    return WalkStep::go_on;
  };
  if (target_.entry)
    walk_target(target_, options, take);
  else
    files_of(node).walk(options, take);
}

SourcePtr MountTree::content(const MountNode& node) {
  switch (node.kind) {
    case MountNode::Kind::findings: {
      const std::string text = findings_text();
      const auto bytes = std::as_bytes(std::span(text));
      return make_memory_source({bytes.begin(), bytes.end()});
    }
    default:
      return files_of(node).open(node.entry).bytes;
  }
}

// Findings, then each file that is not intact. The files are looked at once: that takes a walk.
std::string MountTree::findings_text() {
  if (!files_in_doubt_) {
    constexpr std::size_t kMaxListed = 10'000;
    std::string lines;
    std::size_t listed = 0;
    const auto take = [&](const VolumeLayer& volume, const Entry& entry) {
      if (entry.kind != EntryKind::file || entry.intact == 1 || is_well(entry))
        return WalkStep::go_on;
      if (++listed > kMaxListed) {
        lines += fmt::format("more than {} files: the rest are not listed\n", kMaxListed);
        return WalkStep::stop;
      }
      lines += fmt::format("{:<8} intact {} of {}; {}\n", to_string(entry.state), share_text(entry),
                           for_terminal(entry_address(volume, entry).print()), entry.evidence);
      return WalkStep::go_on;
    };
    WalkOptions all;
    all.deleted = true;
    for (const VolumeLayer& volume : target_.disk().volumes) {
      if (!volume.file_system() || (target_.volume && target_.volume.get() != &volume)) continue;
      const auto visit = [&](const Entry& entry) { return take(volume, entry); };
      if (target_.entry)
        walk_target(target_, all, visit);
      else
        volume.file_system()->walk(all, visit);
    }
    files_in_doubt_ = std::move(lines);
  }
  std::string text;
  for (const Finding& finding : context_.findings->all())
    text += fmt::format("{:<8} {} at byte {} of {}: {}; {}\n", to_string(finding.severity),
                        to_string(finding.code), finding.range.offset,
                        for_terminal(finding.address), finding.message, finding.done_instead);
  return text + *files_in_doubt_;
}

std::vector<Attribute> MountTree::attributes(const MountNode& node) const {
  const bool entry = node.kind == MountNode::Kind::active || node.kind == MountNode::Kind::deleted;
  if (!entry || node.entry.id.empty()) return {};
  std::vector<Attribute> attributes;
  if (node.kind == MountNode::Kind::active) attributes = files_of(node).attributes(node.entry);
  if (node.entry.kind == EntryKind::file && node.entry.intact != 1 && !is_well(node.entry)) {
    attributes.push_back({"user.lantern.intact", share_text(node.entry)});
    if (!node.entry.evidence.empty())
      attributes.push_back({"user.lantern.evidence", node.entry.evidence});
  }
  return attributes;
}

std::uint64_t MountTree::size_bytes(const MountNode& node) {
  if (node.kind == MountNode::Kind::raw) return node.raw->range.length;
  if (node.kind == MountNode::Kind::findings) return content(node)->size();
  return node.entry.size_bytes;
}

}  // namespace lantern
