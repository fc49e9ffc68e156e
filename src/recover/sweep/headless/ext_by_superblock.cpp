#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "filesystem/ext/volume.h"
#include "lantern/sources.h"
#include "recover/sweep/headless/headless_ext.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxSuperblocks = 64;  // of one disk that are tried

}  // namespace

std::vector<HeadlessVolume> ext_by_superblock(const SourcePtr& disk,
                                              const std::vector<std::uint64_t>& superblocks,
                                              const std::vector<std::uint64_t>& starts,
                                              const Context& context) {
  std::vector<HeadlessVolume> found;
  std::set<std::pair<std::uint64_t, std::string>> taken;  // start and UUID
  std::size_t tried = 0;
  // The youngest are the last of a journal.
  for (auto place = superblocks.rbegin(); place != superblocks.rend(); ++place) {
    const auto there = ext::superblock_at(*disk, *place);
    if (there.empty() || !there.front().sum_is_right) continue;
    const ext::Superblock& super = there.front();
    const bool known = std::any_of(taken.begin(), taken.end(), [&](const auto& volume) {
      return volume.second == ext::uuid_text(super.uuid);
    });
    if (known || ++tried > kMaxSuperblocks) continue;
    for (const std::uint64_t start : starts) {
      context.check_cancelled();
      if (start > *place) continue;
      const SourcePtr window = make_window(disk, {start, disk->size() - start});
      Context quiet = context;
      quiet.findings = std::make_shared<FindingSink>();
      const ext::Volume volume{window, make_cached(window, quiet), super, window->size(), quiet};
      const auto root = volume.inode(ext::kRootInode);
      if (!root || !root->folder()) continue;
      taken.emplace(start, ext::uuid_text(super.uuid));
      HeadlessVolume opened;
      opened.start = start;
      opened.opened_by.as = "ext";
      opened.opened_by.geometry = {{"superblock", *place - start}};
      opened.evidence =
          fmt::format("a superblock at byte {}, and the root folder where it leads from byte {} on",
                      *place, start);
      found.push_back(std::move(opened));
      break;
    }
  }
  return found;
}

}  // namespace lantern
