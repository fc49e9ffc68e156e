#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <string_view>

#include "lantern/nest/session.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// Enough to tell a boot volume from somebody's files.
constexpr std::uint64_t kMaxEntries = 20'000;

struct UserKind {
  std::string_view name;     // of one of them
  std::string_view endings;  // each between blanks
};
constexpr std::array<UserKind, 8> kUserKinds = {
    {{"picture", " jpg jpeg png tif tiff raw cr2 nef heic gif svg "},
     {"video", " mp4 mov avi mkv "},
     {"sound", " mp3 wav flac "},
     {"office or text file", " doc docx odt rtf txt md pdf xls xlsx ods csv ppt pptx odp dwg log "},
     {"mail file", " pst eml mbox "},
     {"database", " db sqlite mdb "},
     {"archive", " zip 7z "},
     {"disk image", " vdi vmdk qcow2 "}}};

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
  bool looked_at_all = true;
  std::array<std::uint64_t, kUserKinds.size()> kinds{};

  // Each doubling of user files counts as much; a boot volume with a stray text file stays behind.
  double weight() const {
    return 10 * std::log2(1.0 + static_cast<double>(user_files)) +
           std::log2(1.0 + static_cast<double>(bytes) / (1 << 20)) +
           (user_folder.empty() ? 0 : 15) - (boot_name.empty() ? 0 : 15) - (system ? 20 : 0) +
           (files > 0 ? 1 : 0);
  }
};

// Its place in kUserKinds; their number: it is of none.
std::size_t kind_of(std::string_view name) {
  constexpr std::size_t kMaxEnding = 6;
  const std::size_t dot = name.rfind('.');
  if (dot == std::string_view::npos || name.size() - dot > kMaxEnding) return kUserKinds.size();
  std::string ending = " ";
  for (const char c : name.substr(dot + 1))
    ending += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  ending += ' ';
  const auto found = std::find_if(kUserKinds.begin(), kUserKinds.end(), [&](const UserKind& kind) {
    return kind.endings.find(ending) != std::string_view::npos;
  });
  return static_cast<std::size_t>(found - kUserKinds.begin());
}

void consider(const Entry& entry, Evidence& evidence) {
  const std::string& name = entry.path.back();
  const bool at_root = entry.path.size() == 1;
  if (at_root && is_one_of(kBootNames, name)) evidence.boot_name = name;
  if (entry.path.size() <= 2 && entry.kind == EntryKind::folder && is_one_of(kUserFolders, name))
    evidence.user_folder = name;
  if (entry.kind != EntryKind::file) return;
  ++evidence.files;
  evidence.bytes += entry.size_bytes;
  const std::size_t kind = kind_of(name);
  if (kind == kUserKinds.size()) return;
  ++evidence.kinds.at(kind);
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
    evidence.looked_at_all = ++seen < kMaxEntries;
    return evidence.looked_at_all ? WalkStep::go_on : WalkStep::stop;
  });
  return evidence;
}

std::string kinds_of(const Evidence& evidence) {
  std::string text;
  for (std::size_t i = 0; i < kUserKinds.size(); ++i)
    if (evidence.kinds.at(i) > 0)
      text += (text.empty() ? "" : ", ") + counted(evidence.kinds.at(i), kUserKinds.at(i).name);
  return text;
}

std::string why_this(const Evidence& evidence, std::size_t readable, std::size_t volumes) {
  std::string why = evidence.user_files > 0
                        ? fmt::format("{} ({})", counted(evidence.user_files, "user document"),
                                      kinds_of(evidence))
                        : counted(evidence.files, "file");
  if (evidence.user_deleted > 0) why += fmt::format(", {} of them deleted", evidence.user_deleted);
  if (!evidence.looked_at_all)
    why += fmt::format(", in its first {} entries", grouped(kMaxEntries));
  if (!evidence.user_folder.empty())
    why += fmt::format(", a folder \"{}\"", for_terminal(evidence.user_folder));
  if (readable == 1)
    why += volumes == 1 ? "; the only volume" : "; the only volume that can be read";
  return why;
}

// The address without its last step: the disk a volume is on.
std::string disk_of(const VolumeLayer& volume) {
  Address disk = volume.address;
  if (!disk.steps.empty()) disk.steps.pop_back();
  return disk.print();
}

std::string name_of(const VolumeLayer& volume, bool of_one_disk) {
  if (!of_one_disk || volume.row.spans) return for_terminal(volume.address.print());
  // A volume that no entry names has no number.
  return volume.row.number > 0 ? fmt::format("volume {}", volume.row.number)
                               : fmt::format("the volume at byte {}", volume.row.range.offset);
}

std::string why_not(const VolumeLayer& volume, const Evidence& evidence, bool of_one_disk) {
  std::string why =
      fmt::format("{} has {}", name_of(volume, of_one_disk),
                  evidence.user_files == 0 ? "none of these" : std::to_string(evidence.user_files));
  if (!evidence.looked_at_all) why += fmt::format(" in its first {} entries", grouped(kMaxEntries));
  if (!evidence.boot_name.empty())
    why += fmt::format(" and has boot files (\"{}\")", for_terminal(evidence.boot_name));
  else if (evidence.system)
    why += fmt::format(" and is of type \"{}\"", volume.row.type);
  return why;
}

}  // namespace

VolumeChoice choose_volume(const std::vector<VolumePtr>& volumes, const Context& context) {
  std::vector<std::pair<std::size_t, Evidence>> looked;
  // What a catalog has of files without a volume is no volume, unless there is no other.
  for (const bool content : {false, true})
    for (std::size_t i = 0; i < volumes.size() && (!content || looked.empty()); ++i) {
      context.check_cancelled();
      const auto& files = volumes[i]->file_system();
      if (files && (files->facts().format == "content") == content)
        looked.emplace_back(i, look_at(*volumes[i]));
    }
  if (looked.empty()) return {};
  const auto best = std::max_element(
      looked.begin(), looked.end(),
      [](const auto& a, const auto& b) { return a.second.weight() < b.second.weight(); });
  const bool of_one_disk = std::all_of(
      volumes.begin(), volumes.end(),
      [&](const VolumePtr& volume) { return disk_of(*volume) == disk_of(*volumes.front()); });
  VolumeChoice choice;
  choice.index = best->first;
  choice.why = why_this(best->second, looked.size(), volumes.size());
  for (auto other = looked.begin(); other != looked.end(); ++other)
    if (other != best)
      choice.why += "; " + why_not(*volumes[other->first], other->second, of_one_disk);
  // What cannot be read may be the one that is meant.
  const std::uint64_t chosen_bytes = volumes[best->first]->row.range.length;
  for (const VolumePtr& volume : volumes)
    if (may_hold_files(*volume) && volume->row.range.length > chosen_bytes)
      choice.why += fmt::format("; {} is larger and cannot be read", name_of(*volume, of_one_disk));
  return choice;
}

}  // namespace lantern
