#include "serve/mount_tree.h"

#include <fmt/format.h>

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

}  // namespace

MountTree::MountTree(const Target& target, const Context& context)
    : target_(target), context_(context) {
  nodes_.push_back(std::make_unique<MountNode>());
  nodes_.back()->number = kRoot;
  const std::uint64_t volumes = add_fixed(kRoot, "volumes").number;
  const std::uint64_t deleted = add_fixed(kRoot, "deleted").number;
  const std::uint64_t disks = add_fixed(kRoot, "disks").number;
  MountNode findings;
  findings.kind = MountNode::Kind::findings;
  findings.name = "findings.txt";
  add(kRoot, std::move(findings));

  const DiskLayer& disk = target_.disk();
  MountNode flat;
  flat.kind = MountNode::Kind::raw;
  flat.name = "disk.raw";
  flat.bytes = disk.container.flat;
  add(disks, std::move(flat));
  for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
    if (target_.volume && target_.volume != disk.volumes.share(i)) continue;
    const std::string name = std::to_string(disk.volumes[i].row.number);
    MountNode raw;
    raw.kind = MountNode::Kind::raw;
    raw.name = "volume-" + name + ".raw";
    raw.bytes = disk.volumes[i].bytes;
    add(disks, std::move(raw));
    if (!disk.volumes[i].file_system()) continue;
    for (const auto& [parent, kind] : {std::pair(volumes, MountNode::Kind::active),
                                       std::pair(deleted, MountNode::Kind::deleted)}) {
      MountNode root;
      root.kind = kind;
      root.name = name;
      root.volume = i;
      root.entry.kind = EntryKind::folder;
      root.loaded = false;
      add(parent, std::move(root));
    }
  }
}

MountNode& MountTree::add(std::uint64_t parent, MountNode node) {
  MountNode& folder = *nodes_.at(parent - 1);
  node.number = nodes_.size() + 1;
  // Two of one name are both shown.
  if (folder.by_name.contains(node.name))
    node.name = safe_file_name(fmt::format("{} (@{})", node.name, node.entry.id));
  if (folder.by_name.contains(node.name)) node.name += fmt::format(" ({})", node.number);
  folder.by_name.emplace(node.name, node.number);
  folder.children.push_back(node.number);
  nodes_.push_back(std::make_unique<MountNode>(std::move(node)));
  return *nodes_.back();
}

MountNode& MountTree::add_fixed(std::uint64_t parent, std::string name) {
  MountNode node;
  node.name = std::move(name);
  return add(parent, std::move(node));
}

const FileSystem& MountTree::files_of(const MountNode& node) const {
  return *target_.disk().volumes[node.volume].file_system();
}

const std::vector<std::uint64_t>& MountTree::children(std::uint64_t number) {
  MountNode& node = *nodes_.at(number - 1);
  if (!node.loaded) {
    node.loaded = true;
    if (node.kind == MountNode::Kind::active) load_active(node);
    if (node.kind == MountNode::Kind::deleted) load_deleted(node);
  }
  return node.children;
}

const MountNode* MountTree::child(std::uint64_t parent, const std::string& name) {
  children(parent);
  const MountNode& folder = node(parent);
  const auto found = folder.by_name.find(name);
  return found == folder.by_name.end() ? nullptr : &node(found->second);
}

void MountTree::load_active(MountNode& node) {
  WalkOptions options;
  options.under = node.entry.path;
  options.max_depth = 1;
  files_of(node).walk(options, [&](const Entry& entry) {
    // Another folder of the same path is not this one.
    if (entry.parent != node.entry.id) return WalkStep::go_on;
    MountNode inside;
    inside.kind = MountNode::Kind::active;
    inside.name = shown_name(entry.path.back());
    inside.volume = node.volume;
    inside.entry = entry;
    inside.loaded = entry.kind != EntryKind::folder;
    add(node.number, std::move(inside));
    return WalkStep::go_on;
  });
}

// The folder of a path below `at`, made when it is not there yet.
std::uint64_t MountTree::deleted_folder(std::uint64_t at, const std::vector<std::string>& path,
                                        std::size_t volume) {
  for (std::size_t i = 0; i + 1 < path.size(); ++i) {
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
  files_of(node).walk(options, [&](const Entry& entry) {
    const std::uint64_t parent = deleted_folder(node.number, entry.path, node.volume);
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
  });
}

SourcePtr MountTree::content(const MountNode& node) const {
  switch (node.kind) {
    case MountNode::Kind::raw:
      return node.bytes;
    case MountNode::Kind::findings: {
      std::string text;
      for (const Finding& finding : context_.findings->all())
        text += fmt::format("{:<8} {} at byte {} of {}: {}; {}\n", to_string(finding.severity),
                            to_string(finding.code), finding.range.offset,
                            for_terminal(finding.address), finding.message, finding.done_instead);
      const auto bytes = std::as_bytes(std::span(text));
      return make_memory_source({bytes.begin(), bytes.end()});
    }
    default:
      return files_of(node).open(node.entry).bytes;
  }
}

std::vector<Attribute> MountTree::attributes(const MountNode& node) const {
  if (node.kind != MountNode::Kind::active || node.entry.id.empty()) return {};
  return files_of(node).attributes(node.entry);
}

std::uint64_t MountTree::size_bytes(const MountNode& node) const {
  if (node.kind == MountNode::Kind::raw) return node.bytes->size();
  if (node.kind == MountNode::Kind::findings) return content(node)->size();
  return node.entry.size_bytes;
}

}  // namespace lantern
