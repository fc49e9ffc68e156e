#include "recover/machines/candidates.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "lantern/machines.h"
#include "lantern/text.h"
#include "nest/owner.h"
#include "recover/machines/config.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxOfEach = 10'000;
constexpr std::uint64_t kMinImage = 64u << 10;  // bytes; smaller ones are known by their name

// Large files on any disk whose endings say what they are: reading the start of each would cost
// more than the walk.
bool is_known_for_other(std::string_view name) {
  constexpr std::array<std::string_view, 22> kOther = {
      ".jpg", ".jpeg", ".png", ".tif", ".cr2", ".nef", ".mp4", ".mov", ".avi", ".mkv", ".mp3",
      ".wav", ".pdf",  ".zip", ".7z",  ".gz",  ".xz",  ".exe", ".dll", ".so",  ".iso", ".log"};
  return std::any_of(kOther.begin(), kOther.end(),
                     [&](std::string_view ending) { return ends_in(name, ending); });
}

// Names that a raw image or a headless container may have.
bool may_be_raw(std::string_view name) {
  constexpr std::array<std::string_view, 7> kRaw = {".raw", ".img", ".dd", ".001",
                                                    ".dmg", ".hdd", ".vhd"};
  return name.find('.') == std::string_view::npos ||
         std::any_of(kRaw.begin(), kRaw.end(),
                     [&](std::string_view ending) { return ends_in(name, ending); });
}

bool is_raw_disk(const ByteSource& file) {
  Bytes start(512);
  if (file.read(0, start).length < start.size()) return false;
  return has_boot_mark(start) || is_recognised(file);
}

bool has_container_mark(const ByteSource& file) {
  Bytes start(512);
  if (file.read(0, start).length < start.size()) return false;
  bool found = false;
  known_formats().marks_of(start.data(), [&](const Format& format) {
    found = found || format.kind == FormatKind::container;
  });
  return found;
}

bool is_image(const FileSystem& files, const Entry& entry) {
  const std::string& name = entry.path.back();
  const bool named = machine_file_name(name) == MachineFileName::disk;
  if (!named && entry.size_bytes < kMinImage) return false;
  if (!named && is_known_for_other(name)) return false;
  try {
    const Content content = files.open(entry);
    if (has_container_mark(*content.bytes)) return true;
    return named || (may_be_raw(name) && is_raw_disk(*content.bytes));
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return false;  // encrypted
  }
}

}  // namespace

MachineCandidates find_candidates(const Target& target, bool deleted, const Context& context) {
  MachineCandidates found;
  const FileSystem& files = target.file_system();
  WalkOptions walk;
  walk.deleted = deleted;
  bool more = false;
  walk_target(target, walk, [&](const Entry& entry) {
    context.check_cancelled();
    if (entry.kind != EntryKind::file || entry.size_bytes == 0) return WalkStep::go_on;
    std::vector<Entry>* list = nullptr;
    if (may_be_config(entry.path.back()) && entry.size_bytes <= kMaxConfig)
      list = &found.configs;
    else if (is_image(files, entry))
      list = &found.images;
    if (list == nullptr) return WalkStep::go_on;
    if (list->size() < kMaxOfEach)
      list->push_back(entry);
    else
      more = true;
    return WalkStep::go_on;
  });
  // Only those that can be read as a configuration count.
  std::erase_if(found.configs, [&](const Entry& entry) {
    context.check_cancelled();
    try {
      return !read_config(*files.open(entry).bytes, entry.path.back());
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      return true;
    }
  });
  if (more)
    context.report(FindingCode::budget_entries, Severity::warning, {},
                   fmt::format("more than {} files may be configurations or disk images of "
                               "machines",
                               kMaxOfEach),
                   "the rest is not looked at; name a folder to look into");
  return found;
}

}  // namespace lantern
