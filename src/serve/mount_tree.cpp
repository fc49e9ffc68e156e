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

// "2026-03-02 14.05.07 (1)": sorts by time, and says what version=ID takes.
std::string version_name(const DiskVersion& version) {
  const std::string id = shown_name(version.id);
  if (!version.created) return id;
  std::string time = to_iso8601(*version.created).substr(0, 19);
  std::replace(time.begin(), time.end(), 'T', ' ');
  std::replace(time.begin(), time.end(), ':', '.');
  return fmt::format("{} ({})", time, id);
}

// As `target`, of another volume of the same disk.
Target of_volume(const Target& target, const VolumePtr& volume) {
  Target other = target;
  other.volume = volume;
  return other;
}

// A session that asks nobody who holds a file.
Session alone(const Session& session) {
  OpenOptions options = session.options();
  options.host = nullptr;
  return Session(std::move(options), session.context());
}

}  // namespace

MountTree::MountTree(const Target& target, const LiveDisk& live, const Session& session,
                     const MountParts& parts)
    : target_(target), parts_(parts), session_(alone(session)) {
  number_node({});
  if (parts_.findings) {
    MountNode findings;
    findings.kind = MountNode::Kind::findings;
    findings.name = "findings.txt";
    add(kRoot, std::move(findings));
  }
  const bool of_catalog = target_.disk().of_catalog;
  if (target_.volume && target_.entry && target_.entry->kind == EntryKind::folder) {
    add_root(kRoot, "folder",
             std::make_shared<ShownFiles>(target_, of_catalog, session_.context()));
    if (!of_catalog && parts_.deleted)
      add_root(kRoot, "deleted", ShownFiles::deleted(target_, session_.context()));
    return;
  }
  if (of_catalog && !live.is_writable()) {
    const std::uint64_t found = add_fixed(kRoot, "found").number;
    for (const VolumePtr& volume : target_.disk().volumes.all())
      if (!target_.volume || target_.volume == volume)
        add_root(
            found, print_step(volume->address.steps.back()),
            std::make_shared<ShownFiles>(of_volume(target_, volume), true, session_.context()));
  }
  if (const std::optional<Target> disk = shown_disk(target_)) add_volumes(*disk, live);
}

void MountTree::add_volumes(const Target& target, const LiveDisk& live) {
  if (parts_.disks) {
    const std::uint64_t disks = add_fixed(kRoot, "disks").number;
    for (const LiveDisk::Raw& one : live.raws()) {
      MountNode raw;
      raw.kind = MountNode::Kind::raw;
      raw.name = one.name + ".raw";
      raw.raw = &one;
      add(disks, std::move(raw));
    }
  }
  if (live.is_writable()) return;
  const std::uint64_t volumes = add_fixed(kRoot, "volumes").number;
  const std::uint64_t deleted = parts_.deleted ? add_fixed(kRoot, "deleted").number : 0;
  for (const VolumePtr& volume : target.disk().volumes.all()) {
    if ((target.volume && target.volume != volume) || !volume->file_system()) continue;
    const std::string name = std::to_string(volume->row.number);
    const Target there = of_volume(target, volume);
    add_root(volumes, name, std::make_shared<ShownFiles>(there, false, session_.context()));
    if (parts_.deleted) add_root(deleted, name, ShownFiles::deleted(there, session_.context()));
  }
  if (!parts_.earlier) return;
  // To look for earlier states takes reads: that is left until somebody asks.
  MountNode earlier;
  earlier.name = "earlier";
  earlier.fill = [this, target](std::uint64_t) { add_earlier(target); };
  add(kRoot, std::move(earlier));
}

// Of each volume its versions, and of a disk image that keeps some the volumes of each.
void MountTree::add_earlier(const Target& target) {
  const std::uint64_t earlier = node(kRoot).by_name.at("earlier");
  const DiskLayer& disk = target.disk();
  for (const VolumePtr& volume : disk.volumes.all()) {
    if ((target.volume && target.volume != volume) || volume->versions().empty()) continue;
    const std::uint64_t folder = add_fixed(earlier, std::to_string(volume->row.number)).number;
    for (const DiskVersion& version : volume->versions())
      add_root(folder, version_name(version),
               ShownFiles::earlier(of_volume(target, volume), version.id, session_));
  }
  if (target.volume || disk.container.versions.empty()) return;
  const std::uint64_t folder = add_fixed(earlier, "disk").number;
  for (const DiskVersion& version : disk.container.versions) {
    MountNode then;
    then.name = version_name(version);
    const Address address = disk.address.with({Step::Kind::version, 0, version.id, {}});
    then.fill = [this, address](std::uint64_t own) {
      const Target opened = session_.open_disk(address);
      for (const VolumePtr& volume : opened.disk().volumes.all())
        if (volume->file_system())
          add_root(
              own, std::to_string(volume->row.number),
              std::make_shared<ShownFiles>(of_volume(opened, volume), false, session_.context()));
    };
    add(folder, std::move(then));
  }
}

// The folder of the target, or the root of a volume.
void MountTree::add_root(std::uint64_t parent, std::string name, ShownFilesPtr files) {
  MountNode root;
  root.kind = MountNode::Kind::entry;
  root.name = std::move(name);
  root.files = std::move(files);
  if (target_.entry) root.entry = *target_.entry;
  root.entry.kind = EntryKind::folder;
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

void MountTree::fill(std::uint64_t number) {
  MountNode& folder = *nodes_.at(number);
  if (!folder.fill) return;
  folder.fill(number);
  folder.fill = nullptr;
}

MountListingPtr MountTree::listing(std::uint64_t number) {
  const auto held = std::find_if(listed_.begin(), listed_.end(),
                                 [&](const Listed& one) { return one.number == number; });
  if (held != listed_.end()) {
    listed_.splice(listed_.begin(), listed_, held);
    return listed_.front().listing;
  }
  fill(number);
  const MountNode& folder = node(number);
  if (folder.kind == MountNode::Kind::fixed) {
    // Its nodes are kept: nothing is gained by holding the list of them.
    auto kept = std::make_shared<MountListing>();
    for (const auto& [name, child] : folder.by_name)
      kept->add(name, node(child).folder() ? EntryKind::folder : EntryKind::file, child);
    kept->sort();
    return kept;
  }
  listed_.push_front({number, list_entries(folder)});
  listed_names_ += listed_.front().listing->size();
  while (listed_names_ > kMaxNames && listed_.size() > 1) {
    listed_names_ -= listed_.back().listing->size();
    listed_.pop_back();
  }
  return listed_.front().listing;
}

const MountNode* MountTree::look_up(std::uint64_t parent, const std::string& name) {
  fill(parent);
  const MountNode& folder = node(parent);
  if (folder.kind == MountNode::Kind::fixed) {
    const auto found = folder.by_name.find(name);
    if (found == folder.by_name.end()) return nullptr;
    ++nodes_.at(found->second)->lookups;
    return &node(found->second);
  }
  const std::string key = std::to_string(parent) + "/" + name;
  auto known = known_.find(key);
  if (known == known_.end()) {
    const std::optional<std::size_t> found = listing(parent)->find(name);
    if (!found) return nullptr;
    MountNode child;
    child.kind = MountNode::Kind::entry;
    child.parent = parent;
    child.kept = false;
    child.name = name;
    child.files = folder.files;
    child.entry = entry_at(folder, *found);
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

MountListingPtr MountTree::list_entries(const MountNode& folder) {
  auto listing = std::make_shared<MountListing>();
  Held held{folder.number, 0, {}};
  folder.files->walk(folder.entry, [&](const Entry& entry) {
    std::string name = shown_name(entry.path.back());
    // Two of one name are both shown.
    if (listing->may_have(name)) name = safe_file_name(fmt::format("{} (@{})", name, entry.id));
    if (listing->may_have(name)) name = safe_file_name(fmt::format("{} {}", listing->size(), name));
    listing->add(name, entry.kind);
    if (held.entries.size() < kMaxHeld / 2) held.entries.push_back(entry);
    return WalkStep::go_on;
  });
  listing->sort();
  hold(std::move(held));
  return listing;
}

void MountTree::hold(Held held) {
  held_entries_ += held.entries.size();
  held_.push_front(std::move(held));
  while (held_entries_ > kMaxHeld && held_.size() > 1) {
    held_entries_ -= held_.back().entries.size();
    held_.pop_back();
  }
}

// Those behind it are held, too: who goes through a folder asks for them next.
Entry MountTree::entry_at(const MountNode& folder, std::size_t index) {
  const auto has = [&](const Held& held) {
    return held.number == folder.number && index >= held.first &&
           index - held.first < held.entries.size();
  };
  const auto found = std::find_if(held_.begin(), held_.end(), has);
  if (found != held_.end()) {
    held_.splice(held_.begin(), held_, found);
  } else {
    Held held{folder.number, index, {}};
    std::size_t at = 0;
    folder.files->walk(folder.entry, [&](const Entry& entry) {
      if (at++ >= index) held.entries.push_back(entry);
      return held.entries.size() < kMaxHeld / 2 ? WalkStep::go_on : WalkStep::stop;
    });
    if (held.entries.empty())
      throw Error(ErrorCode::cannot_read, folder.name, std::nullopt, "changed while it was read");
    hold(std::move(held));
  }
  return held_.front().entries[index - held_.front().first];
}

SourcePtr MountTree::content(const MountNode& node) {
  if (node.kind == MountNode::Kind::entry) return node.files->content(node.entry);
  const std::string text = findings_text();
  const auto bytes = std::as_bytes(std::span(text));
  return make_memory_source({bytes.begin(), bytes.end()});
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
  for (const Finding& finding : session_.context().findings->all())
    text += fmt::format("{:<8} {} at byte {} of {}: {}; {}\n", to_string(finding.severity),
                        to_string(finding.code), finding.range.offset,
                        for_terminal(finding.address), finding.message, finding.done_instead);
  return text + *files_in_doubt_;
}

std::uint64_t MountTree::size_bytes(const MountNode& node) {
  if (node.kind == MountNode::Kind::raw) return node.raw->range.length;
  if (node.kind == MountNode::Kind::findings) return content(node)->size();
  return node.entry.size_bytes;
}

}  // namespace lantern
