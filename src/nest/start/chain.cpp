#include <fmt/format.h>

#include <algorithm>

#include "lantern/text.h"
#include "nest/start/chain_builder.h"
#include "nest/start/loaders.h"

namespace lantern {
namespace {

std::vector<std::string> split(std::string_view path) {
  std::vector<std::string> names;
  while (!path.empty()) {
    const std::size_t end = std::min(path.find('/'), path.size());
    names.emplace_back(path.substr(0, end));
    path.remove_prefix(std::min(end + 1, path.size()));
  }
  return names;
}

bool is_there(const FileSystem& files, std::string_view path) {
  const std::vector<Entry> found = files.find(split(path), NameRule::any_case);
  return std::any_of(found.begin(), found.end(),
                     [](const Entry& one) { return one.state == EntryState::active; });
}

// Of a file that a hibernated Windows leaves: its memory, unless the mark was taken back.
bool has_stored_memory(const FileSystem& files) {
  for (const Entry& entry : files.find({"hiberfil.sys"}, NameRule::any_case)) {
    if (entry.state != EntryState::active || entry.kind != EntryKind::file) continue;
    const Bytes mark = start::read_at(*files.open(entry).bytes, 0, 4);
    const std::string text = text_of(mark);
    if (text == "hibr" || text == "HIBR" || text == "wake" || text == "WAKE") return true;
  }
  return false;
}

}  // namespace

std::string_view to_string(Firmware firmware) {
  return firmware == Firmware::bios ? "BIOS" : "UEFI";
}

std::string_view to_string(LinkState state) {
  switch (state) {
    case LinkState::good:
      return "good";
    case LinkState::unchecked:
      return "unchecked";
    case LinkState::doubtful:
      return "doubtful";
    case LinkState::broken:
      break;
  }
  return "broken";
}

std::string_view to_string(StartVerdict verdict) {
  switch (verdict) {
    case StartVerdict::starts:
      return "starts";
    case StartVerdict::may_start:
      return "may start";
    case StartVerdict::does_not_start:
      break;
  }
  return "does not start";
}

StartVerdict StartChain::verdict() const {
  LinkState worst = LinkState::good;
  for (const StartLink& link : links) worst = std::max(worst, link.state);
  return worst == LinkState::broken ? StartVerdict::does_not_start
         : worst == LinkState::good ? StartVerdict::starts
                                    : StartVerdict::may_start;
}

const StartLink* StartChain::problem() const {
  // Only the last can be broken.
  if (!links.empty() && links.back().state == LinkState::broken) return &links.back();
  const auto found = std::find_if(links.begin(), links.end(), [](const StartLink& link) {
    return link.state == LinkState::doubtful;
  });
  return found == links.end() ? nullptr : &*found;
}

std::vector<StartChain> read_start_chains(const DiskLayer& disk,
                                          const std::vector<VolumePtr>& unlisted,
                                          const Context& context) {
  std::vector<StartChain> chains;
  for (const auto& read : {start::bios_chain, start::uefi_chain}) {
    context.check_cancelled();
    StartChain chain = read(disk, unlisted);
    if (!chain.links.empty()) chains.push_back(std::move(chain));
  }
  return chains;
}

SystemState system_state(const VolumeLayer& volume) {
  constexpr std::uint64_t kMinSize = 512ull << 20;  // smaller ones hold no system that fills up
  constexpr std::uint64_t kMinFree = 32ull << 20;
  SystemState state;
  const FileSystem* const files = volume.file_system().get();
  if (files == nullptr) return state;
  for (const char* const path :
       {"Windows/System32", "WINNT/system32", "etc/fstab", "usr/lib/os-release", "etc/os-release"})
    state.holds_system = state.holds_system || is_there(*files, path);
  state.hibernated = has_stored_memory(*files);
  const std::uint64_t size = files->facts().size_bytes;
  if (state.holds_system && size >= kMinSize) {
    const std::uint64_t used = std::min(files->used_bytes(), size);
    state.full = size - used < std::max(kMinFree, size / 200);
  }
  return state;
}

namespace start {

Bytes read_at(const ByteSource& source, std::uint64_t offset, std::size_t length) {
  Bytes bytes(length);
  if (offset >= source.size()) return {};
  const ReadResult got = source.read(offset, bytes);
  bytes.resize(got.unreadable.empty() ? got.length : 0);
  return bytes;
}

bool opened_by_copy(const VolumeLayer& volume) {
  if (volume.owner() && volume.owner()->is_read && volume.owner()->from_copy) return true;
  const std::vector<Finding> found = volume.findings->all();
  return std::any_of(found.begin(), found.end(), [](const Finding& finding) {
    if (finding.severity != Severity::damage) return false;
    const bool boot_sector = finding.code == FindingCode::fat_boot_sector ||
                             finding.code == FindingCode::ntfs_boot_sector ||
                             finding.code == FindingCode::exfat_boot;
    return finding.code == FindingCode::ext_superblock ||
           (boot_sector && finding.range.offset == 0);
  });
}

std::optional<LoaderFile> find_loader_file(const FileSystem& files,
                                           std::span<const std::string_view> paths) {
  std::optional<LoaderFile> deleted;
  for (const std::string_view path : paths) {
    std::vector<Entry> found = files.find(split(path), NameRule::any_case);
    if (found.empty()) continue;
    LoaderFile file{path_text(found.front().path), std::move(found.front())};
    if (!file.is_deleted()) return file;
    if (!deleted) deleted = std::move(file);
  }
  return deleted;
}

StartLink files_link(const VolumeLayer& volume, std::string_view loader) {
  StartLink link{"loader files",
                 LinkState::good,
                 {},
                 volume.address.print(),
                 0,
                 FindingCode::start_loader,
                 {}};
  const FileSystem& files = *volume.file_system();
  // It is loaded from sectors that are written in the boot record, whatever became of the file.
  const bool by_sectors = loader == "SYSLINUX";
  for (const AnyOf& any : files_of(loader)) {
    const auto file = find_loader_file(files, any);
    if (file && !file->is_deleted() && file->is_intact()) {
      link.what += (link.what.empty() ? "" : ", ") + for_terminal(file->path);
      continue;
    }
    const bool in_place = by_sectors && any.data() == files_of(loader).front().data();
    link.state = in_place ? LinkState::doubtful : LinkState::broken;
    if (!file) {
      link.what = fmt::format("{} needs \"{}\", which is missing", loader, any.front());
      link.cure = "copy the loader's files from a healthy disk of the same system";
    } else if (file->is_deleted()) {
      link.what = fmt::format("{} needs \"{}\", which was deleted", loader, file->path);
      link.cure = file->is_intact() ? "its content is intact: extract it, and put it back"
                                    : "copy it from a healthy disk of the same system";
    } else {
      link.what = fmt::format("{} needs \"{}\", which is incomplete", loader, file->path);
      link.cure = "copy it from a healthy disk of the same system";
    }
    return link;
  }
  if (link.what.empty()) {
    link.state = LinkState::unchecked;
    link.what = "the loader is not known, nor which files it needs";
  }
  return link;
}

}  // namespace start
}  // namespace lantern
