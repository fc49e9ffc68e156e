// What an address led to: its innermost parts, what a volume holds in words, and where it is read
// from.
#include <algorithm>
#include <filesystem>
#include <unordered_set>

#include "lantern/error.h"
#include "lantern/nest/target.h"

namespace lantern {

const DiskLayer& Target::disk() const {
  if (disks.empty() || !disks.back())
    throw Error(ErrorCode::usage, {}, std::nullopt, "the target names no disk",
                "open it with Session::open");
  if (!disks.back()->bytes)
    throw Error(ErrorCode::usage, disks.back()->address.print(), std::nullopt,
                "the disk was not opened", "open it with Session::open");
  return *disks.back();
}

const VolumeLayer& Target::volume_layer() const {
  disk();
  if (!volume)
    throw Error(ErrorCode::usage, disk().address.print(), std::nullopt,
                "the target names no volume", "open it with Session::open_volume");
  if (!volume->bytes)
    throw Error(ErrorCode::usage, volume->address.print(), std::nullopt,
                "the volume was not opened", "open it with Session::open_volume");
  return *volume;
}

const FileSystem& Target::file_system() const {
  const VolumeLayer& layer = volume_layer();
  if (!layer.file_system())
    throw Error(ErrorCode::usage, layer.address.print(), std::nullopt,
                "the volume has no file system that can be read",
                {Do::survey, " shows what is there"});
  return *layer.file_system();
}

std::vector<Finding> findings_of(const Target& target) {
  FindingSink all;
  const auto take = [&](const Layer& layer) {
    for (Finding& finding : layer.findings->all()) all.add(std::move(finding));
    return true;
  };
  for (const DiskPtr& disk : target.disks) walk_layers(disk, take);
  walk_layers(target.volume, take);
  return all.all();
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
  const auto take = [&](const Layer& layer) {
    const auto* const file = dynamic_cast<const FileLayer*>(&layer);
    if (file != nullptr && std::find(paths.begin(), paths.end(), file->path) == paths.end())
      paths.push_back(file->path);
    return true;
  };
  for (const DiskPtr& disk : target.disks) walk_layers(disk, take);
  // A volume that spans disks lies on more than the one the address goes through.
  walk_layers(target.volume, take);
  return paths;
}

}  // namespace lantern
