#include "nest/opening/folder_disks.h"

#include <algorithm>
#include <filesystem>
#include <set>

#include "base/bytes.h"
#include "lantern/container.h"
#include "lantern/error.h"
#include "lantern/file_system.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "nest/owner.h"
#include "nest/places/evidence.h"
#include "volume/gpt_layout.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxFiles = 10'000;

bool is_raw_disk(const SourcePtr& file) {
  Bytes start(1024);
  if (file->read(0, start).length < start.size()) return false;
  if (has_boot_mark(start) || has_text(start, 512, gpt::kSignature)) return true;
  return is_recognised(*file);
}

// Of an array or group.
bool is_member(const ByteSource& file) {
  const auto recognised = known_formats().recognise(file);
  return std::any_of(recognised.begin(), recognised.end(), [](const Recognition& one) {
    return one.kind == FormatKind::array || one.kind == FormatKind::volume_manager;
  });
}

}  // namespace

std::vector<std::string> disks_in(const std::shared_ptr<const Neighbours>& folder,
                                  const Context& context) {
  struct Raw {
    std::string name;
    std::uint64_t bytes = 0;
  };
  std::vector<std::string> disks;
  std::vector<Raw> unknown;
  std::set<std::uint64_t> of_members;  // sizes
  std::set<std::string> below;         // places
  Context quiet = context;
  std::size_t seen = 0;
  for (const std::string& name : folder->names()) {
    context.check_cancelled();
    if (++seen > kMaxFiles) break;
    quiet.findings = std::make_shared<FindingSink>();
    const auto file = folder->open(name);
    if (!file || (*file)->size() < 512) continue;
    Surroundings around;
    around.name = name;
    around.beside = folder;
    around.opening = {folder->place(name)};
    try {
      const Container container = open_container(*file, around, quiet);
      if (container.format == "raw") {
        if (!is_raw_disk(*file)) {
          unknown.push_back({name, (*file)->size()});
          continue;
        }
        if (is_member(**file)) of_members.insert((*file)->size());
      }
      for (const ChainLink& link : container.chain) below.insert(link.place);
      below.insert(container.files.begin(), container.files.end());
    } catch (const Error& error) {
      // Known, but too damaged to be opened: still a disk to speak of.
      if (error.code() == ErrorCode::stopped) throw;
    }
    disks.push_back(name);
  }
  // As large as a member to the byte, it is most likely another whose start is lost.
  for (Raw& raw : unknown)
    if (of_members.contains(raw.bytes)) disks.push_back(std::move(raw.name));
  std::sort(disks.begin(), disks.end());
  std::erase_if(disks, [&](const std::string& name) {
    if (below.contains(folder->place(name))) return true;
    // Pieces of a split image, but the first.
    const std::size_t dot = name.rfind('.');
    const std::string piece = dot == std::string::npos ? "" : name.substr(dot + 1);
    return piece.size() == 3 && piece != "001" &&
           piece.find_first_not_of("0123456789") == std::string::npos;
  });
  return disks;
}

std::string near_path(const std::string& path, const Context& context) {
  namespace fs = std::filesystem;
  std::error_code error;
  const std::size_t colon = path.rfind(':');
  if (colon != std::string::npos && colon > 0 && fs::exists(path.substr(0, colon), error))
    return path.substr(0, colon) + "::" + path.substr(colon + 1);
  const fs::path folder = fs::path(path).parent_path();
  const std::string place = folder.empty() ? "." : folder.string();
  if (!fs::is_directory(place, error)) return {};
  const std::string near =
      nearest_name(fs::path(path).filename().string(), host_neighbours(place, context)->names());
  return near.empty() ? near : (folder / near).string();
}

}  // namespace lantern
