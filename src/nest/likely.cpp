#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <string_view>

#include "lantern/nest/session.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// A look, not a census: enough to tell a boot volume from somebody's files.
constexpr std::uint64_t kMostEntries = 20'000;

constexpr std::array<std::string_view, 44> kUserEndings = {
    "jpg", "jpeg", "png",  "tif", "tiff", "raw", "cr2",  "nef",   "heic", "gif",    "mp4",
    "mov", "avi",  "mp3",  "wav", "flac", "doc", "docx", "odt",   "rtf",  "txt",    "md",
    "pdf", "xls",  "xlsx", "ods", "csv",  "ppt", "pptx", "odp",   "db",   "sqlite", "mdb",
    "pst", "eml",  "mbox", "zip", "7z",   "vdi", "vmdk", "qcow2", "svg",  "dwg",    "log"};

constexpr std::array<std::string_view, 8> kUserFolders = {
    "users", "home",    "documents",    "pictures",
    "dcim",  "desktop", "my documents", "documents and settings"};

constexpr std::array<std::string_view, 12> kBootNames = {
    "efi",      "bootmgr",  "ntldr",      "io.sys",       "ldlinux.sys", "grub",
    "syslinux", "extlinux", "kernel.img", "bootcode.bin", "vmlinuz",     "command.com"};

template <std::size_t N>
bool is_one_of(const std::array<std::string_view, N>& words, std::string_view word) {
  return std::any_of(words.begin(), words.end(),
                     [&](std::string_view known) { return equal_ignoring_case(known, word); });
}

struct Evidence {
  std::uint64_t files = 0;
  std::uint64_t user_files = 0;
  std::uint64_t user_deleted = 0;
  std::uint64_t bytes = 0;
  std::string user_folder;
  std::string boot_name;
  bool system = false;

  // Each doubling of user files counts as much; a boot volume with a stray text file stays behind.
  double weight() const {
    return 10 * std::log2(1.0 + static_cast<double>(user_files)) +
           std::log2(1.0 + static_cast<double>(bytes) / (1 << 20)) +
           (user_folder.empty() ? 0 : 15) - (boot_name.empty() ? 0 : 15) - (system ? 20 : 0) +
           (files > 0 ? 1 : 0);
  }
};

void consider(const Entry& entry, Evidence& evidence) {
  const std::string& name = entry.path.back();
  const bool at_root = entry.path.size() == 1;
  if (at_root && is_one_of(kBootNames, name)) evidence.boot_name = name;
  if (entry.path.size() <= 2 && entry.kind == EntryKind::folder && is_one_of(kUserFolders, name))
    evidence.user_folder = name;
  if (entry.kind != EntryKind::file) return;
  ++evidence.files;
  evidence.bytes += entry.size_bytes;
  const std::size_t dot = name.rfind('.');
  if (dot == std::string::npos || !is_one_of(kUserEndings, std::string_view(name).substr(dot + 1)))
    return;
  ++evidence.user_files;
  if (entry.state != EntryState::active) ++evidence.user_deleted;
}

Evidence look_at(const VolumeLayer& volume) {
  Evidence evidence;
  evidence.system = volume.row.system;
  std::uint64_t seen = 0;
  WalkOptions all;
  all.deleted = true;
  volume.file_system()->walk(all, [&](const Entry& entry) {
    consider(entry, evidence);
    return ++seen < kMostEntries ? WalkStep::go_on : WalkStep::stop;
  });
  return evidence;
}

std::string why_this(const Evidence& evidence, std::size_t readable, std::size_t volumes) {
  std::string why = evidence.user_files > 0
                        ? counted(evidence.user_files, "file") + " of kinds people make"
                        : counted(evidence.files, "file");
  if (evidence.user_deleted > 0) why += fmt::format(", {} of them deleted", evidence.user_deleted);
  if (!evidence.user_folder.empty())
    why += fmt::format(", a folder \"{}\"", for_terminal(evidence.user_folder));
  if (readable == 1)
    why += volumes == 1 ? "; the only volume" : "; the only volume that can be read";
  return why;
}

std::string why_not(const VolumeLayer& volume, const Evidence& evidence) {
  std::string why =
      fmt::format("volume {} has {}", volume.row.number,
                  evidence.user_files == 0 ? "none" : std::to_string(evidence.user_files));
  if (!evidence.boot_name.empty())
    why += fmt::format(" and holds boot files (\"{}\")", for_terminal(evidence.boot_name));
  else if (evidence.system)
    why += fmt::format(" and is of type \"{}\"", volume.row.type);
  return why;
}

}  // namespace

VolumeChoice choose_volume(const DiskLayer& disk, const Context& context) {
  std::vector<std::pair<std::size_t, Evidence>> looked;
  for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
    context.check_cancelled();
    if (disk.volumes[i].file_system()) looked.emplace_back(i, look_at(disk.volumes[i]));
  }
  if (looked.empty()) return {};
  const auto best = std::max_element(
      looked.begin(), looked.end(),
      [](const auto& a, const auto& b) { return a.second.weight() < b.second.weight(); });
  VolumeChoice choice;
  choice.index = best->first;
  choice.why = why_this(best->second, looked.size(), disk.volumes.size());
  for (auto other = looked.begin(); other != looked.end(); ++other)
    if (other != best) choice.why += "; " + why_not(disk.volumes[other->first], other->second);
  return choice;
}

}  // namespace lantern
