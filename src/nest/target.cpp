// What an address led to: its innermost parts, what a volume holds in words, and where it is read
// from.
#include <algorithm>
#include <filesystem>
#include <unordered_set>

#include "lantern/error.h"
#include "lantern/nest.h"

namespace lantern {

const DiskView& Target::disk() const {
  if (disks.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "the target names no disk",
                "open it with open_target");
  if (!disks.back().container.flat)
    throw Error(ErrorCode::usage, disks.back().address.print(), std::nullopt,
                "the disk was not opened", "open it with open_target");
  return disks.back();
}

const VolumeView& Target::volume_view() const {
  if (!volume || *volume >= disk().volumes.size())
    throw Error(ErrorCode::usage, disk().address.print(), std::nullopt,
                "the target names no volume", "open it with open_volume_target");
  const VolumeView& view = disks.back().volumes[*volume];
  if (!view.bytes)
    throw Error(ErrorCode::usage, view.address.print(), std::nullopt, "the volume was not opened",
                "open it with open_volume_target");
  return view;
}

const FileSystem& Target::file_system() const {
  const VolumeView& view = volume_view();
  if (!view.file_system)
    throw Error(ErrorCode::usage, view.address.print(), std::nullopt,
                "the volume has no file system that can be read",
                "lantern survey shows what is there");
  return *view.file_system;
}

void walk_target(const Target& target, WalkOptions options, const EntryVisitor& visit) {
  const FileSystem& files = target.file_system();
  if (!target.entry) return files.walk(options, visit);
  if (target.entry->kind != EntryKind::folder) {
    visit(*target.entry);
    return;
  }
  options.under = target.entry->path;
  if (target.entry->state != EntryState::active) options.deleted = true;
  std::unordered_set<std::string> inside = {target.entry->id};
  files.walk(options, [&](const Entry& entry) {
    if (!inside.contains(entry.parent)) return WalkStep::skip_folder;
    if (entry.kind == EntryKind::folder) inside.insert(entry.id);
    return visit(entry);
  });
}

Address resolved(const Address& address) {
  Address own = address;
  std::error_code error;
  if (std::filesystem::is_symlink(std::filesystem::symlink_status(own.first, error))) {
    const auto leads_to = std::filesystem::canonical(own.first, error);
    if (!error) own.first = leads_to.string();
  }
  if (!own.steps.empty() && own.steps.front().kind == Step::Kind::member &&
      std::filesystem::is_directory(own.first, error)) {
    const std::string file = own.first + "/" + own.steps.front().text;
    if (std::filesystem::is_regular_file(file, error)) {
      own.first = file;
      own.steps.erase(own.steps.begin());
      return resolved(own);
    }
  }
  return own;
}

std::vector<std::string> bottom_sources(const Target& target) {
  std::vector<std::string> paths;
  std::error_code error;
  const auto add = [&](const std::string& path) {
    if (std::filesystem::exists(path, error) &&
        std::find(paths.begin(), paths.end(), path) == paths.end())
      paths.push_back(path);
  };
  // Of a folder the disk in it is the source, not the folder.
  if (target.disks.empty()) return paths;
  const Address& first = target.disks.front().address;
  const bool in_folder = !first.steps.empty() && std::filesystem::is_directory(first.first, error);
  add(in_folder ? first.first + "/" + first.steps.front().text : first.first);
  for (const DiskView& disk : target.disks) {
    for (const std::string& file : disk.container.files) add(file);
    for (const ChainLink& link : disk.container.chain) add(link.place);
  }
  return paths;
}

std::string content_of(const VolumeView& volume) {
  if (volume.file_system) return volume.file_system->facts().type;
  if (volume.owner) return volume.owner->title;
  if (volume.start == VolumeStart::zeros) return "nothing but zeros at its start";
  return volume.start == VolumeStart::unreadable ? "its start cannot be read" : "";
}

}  // namespace lantern
