#include "survey/full.h"

#include <algorithm>
#include <map>

#include "lantern/text.h"

namespace lantern::survey_parts {
namespace {

constexpr std::uint64_t kEnough = 1u << 30;  // free bytes with which nothing is full
constexpr std::uint64_t kShare = 100;        // of which one may be free
constexpr std::size_t kLargest = 3, kLevels = 2;
constexpr std::size_t kMaxFolders = 100'000;  // that are told apart

// What only a volume has that a system is installed on.
bool holds_system(const FileSystem& files) {
  using Path = std::vector<std::string>;
  for (const Path& path : {Path{"etc", "passwd"}, Path{"Windows", "System32"}})
    if (!files.find(path, NameRule::of_format).empty()) return true;
  return false;
}

std::vector<SurveyFull::Folder> largest_folders(const FileSystem& files, const Context& context) {
  std::map<std::vector<std::string>, std::uint64_t> sizes;
  files.walk({}, [&](const Entry& entry) {
    context.check_cancelled();
    if (entry.kind == EntryKind::folder || entry.path.size() < 2) return WalkStep::go_on;
    const std::size_t levels = std::min(kLevels, entry.path.size() - 1);
    std::vector<std::string> folder(entry.path.begin(),
                                    entry.path.begin() + static_cast<std::ptrdiff_t>(levels));
    if (sizes.size() < kMaxFolders || sizes.contains(folder))
      sizes[std::move(folder)] += entry.size_bytes;
    return WalkStep::go_on;
  });
  std::vector<SurveyFull::Folder> largest;
  largest.reserve(sizes.size());
  for (const auto& [path, bytes] : sizes) largest.push_back({path_text(path), bytes});
  std::stable_sort(largest.begin(), largest.end(),
                   [](const auto& a, const auto& b) { return a.size_bytes > b.size_bytes; });
  if (largest.size() > kLargest) largest.resize(kLargest);
  return largest;
}

}  // namespace

std::optional<SurveyFull> full_volume(const SurveyVolume& volume, const Context& context) {
  const auto& files = volume.layer->file_system();
  if (!files || !volume.counted_all || files->facts().format == "iso9660") return std::nullopt;
  SurveyFull full;
  full.size_bytes = files->facts().size_bytes;
  full.free_bytes = full.size_bytes > volume.used_bytes ? full.size_bytes - volume.used_bytes : 0;
  if (full.size_bytes == 0 || full.free_bytes >= kEnough ||
      full.free_bytes >= full.size_bytes / kShare || volume.files == 0)
    return std::nullopt;
  full.address = volume.layer->address.print();
  full.holds_system = holds_system(*files);
  full.can_grow = files->facts().format == "ext" || files->facts().format == "ntfs";
  full.largest = largest_folders(*files, context);
  return full;
}

}  // namespace lantern::survey_parts
