#include "filesystem/exfat/exfat.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <bit>
#include <charconv>
#include <mutex>
#include <set>

#include "base/checked.h"
#include "filesystem/allocation_runs.h"
#include "filesystem/discarded_bytes.h"
#include "filesystem/dos_attributes.h"
#include "filesystem/exfat/by_hand.h"
#include "filesystem/exfat/clusters.h"
#include "filesystem/find_in_folder.h"
#include "filesystem/level_order.h"
#include "filesystem/up_case.h"
#include "filesystem/walk_guard.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace exfat;

// What is left of the share of a file that nothing claims, yet something may have been written
// over: not whole, whatever else speaks for it.
constexpr double kUnproven = 0.99;
constexpr std::uint64_t kMaxCapitals = 0x20000;  // bytes: all there can be

struct Visit {
  const EntrySet& set;
  std::uint64_t slot = 0;  // of the volume, bytes
  bool deleted = false;    // itself, or in a deleted folder
  bool folder_is_lost = false;
  const std::vector<std::string>& path;
  std::uint64_t parent_slot = 0;  // 0: the root
};

// Clusters that more than one deleted file claims, and all that any does. Both sorted, disjoint.
struct Claims {
  std::vector<ClusterRun> any;
  std::vector<ClusterRun> disputed;
};

bool holds(const std::vector<ClusterRun>& runs, std::uint32_t cluster) {
  const auto after =
      std::upper_bound(runs.begin(), runs.end(), cluster,
                       [](std::uint32_t c, const ClusterRun& run) { return c < run.first; });
  return after != runs.begin() && cluster - std::prev(after)->first < std::prev(after)->count;
}

class ExfatFileSystem final : public FileSystem {
 public:
  ExfatFileSystem(Volume volume, const VolumeSlots& slots) : volume_(std::move(volume)) {
    const Geometry& g = volume_.geometry;
    facts_.format = "exfat";
    facts_.type = "exfat";
    facts_.label = to_valid_utf8(slots.label);
    facts_.uuid = fmt::format("{:04X}-{:04X}", g.serial >> 16, g.serial & 0xFFFF);
    facts_.size_bytes = g.volume_bytes;
    facts_.cluster_bytes = g.cluster_bytes;
    facts_.cluster_count = g.cluster_count;
    Bytes table(static_cast<std::size_t>(std::min(slots.capitals_bytes, kMaxCapitals)));
    const std::uint64_t clusters = divide_up(table.size(), g.cluster_bytes);
    volume_.bytes_of(volume_.chain(slots.capitals_cluster, clusters), volume_.cached)
        ->read(0, table);
    capitals_ = UpCase::of_shortened(table);
  }

  const FileSystemFacts& facts() const override { return facts_; }

  std::uint64_t used_bytes() const override {
    if (!volume_.bitmap) return facts_.size_bytes;
    std::uint64_t used = 0;
    Bytes piece(64u << 10);
    const std::uint64_t bytes = (std::uint64_t{volume_.geometry.cluster_count} + 7) / 8;
    for (std::uint64_t at = 0; at < bytes; at += piece.size()) {
      volume_.context.check_cancelled();
      const std::size_t got = volume_.bitmap->read(at, piece).length;
      for (std::size_t i = 0; i < got && at + i < bytes; ++i)
        used += static_cast<unsigned>(std::popcount(u8(piece, i)));
    }
    return used * facts_.cluster_bytes;
  }

  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    Entry entry;
    walk_sets(options, [&](const Visit& seen) {
      fill(entry, seen);
      return visit(entry);
    });
  }

  std::vector<Entry> find(const std::vector<std::string>& path, NameRule) const override {
    return find_in_folder(
        path, [&](const WalkOptions& options, const EntryVisitor& visit) { walk(options, visit); },
        [&](const std::string& a, const std::string& b) { return capitals_.same(a, b); });
  }

  std::optional<Entry> entry(const std::string& id) const override {
    std::optional<Entry> found;
    WalkOptions all;
    all.deleted = true;
    walk_sets(all, [&](const Visit& seen) {
      if (std::to_string(seen.slot) != id) return WalkStep::go_on;
      fill(found.emplace(), seen);
      return WalkStep::stop;
    });
    return found;
  }

  Content open(const Entry& entry, const std::string& stream) const override {
    if (!stream.empty())
      throw Error(ErrorCode::not_found, volume_.context.address, std::nullopt,
                  fmt::format("there is no stream \"{}\": exFAT keeps one content", stream),
                  {Do::show, " lists what there is"});
    if (entry.kind != EntryKind::file)
      throw Error(ErrorCode::usage, volume_.context.address, entry.number,
                  "a folder has no content of its own", "list it, or extract it as a whole");
    return content_of(set_at(entry.number), entry.state != EntryState::active);
  }

  void allocation(Range range, const AllocationVisitor& visit) const override {
    const Geometry& g = volume_.geometry;
    const auto part_at = [&](std::uint64_t at) {
      if (at < g.heap_offset) return std::pair(g.heap_offset, true);
      const std::uint64_t number = 2 + (at - g.heap_offset) / g.cluster_bytes;
      if (number >= std::uint64_t{g.cluster_count} + 2) return std::pair(g.volume_bytes, true);
      const auto cluster = static_cast<std::uint32_t>(number);
      return std::pair(g.cluster_offset(cluster) + g.cluster_bytes, volume_.in_use(cluster));
    };
    const std::uint64_t end = g.cluster_offset(g.cluster_count + 1) + g.cluster_bytes;
    join_allocation(intersect(range, {0, std::min(end, g.volume_bytes)}), part_at, visit);
  }

 private:
  struct Level {
    std::vector<ClusterRun> runs;
    SetReader reader;
    bool deleted = false;
    std::uint64_t slot = 0;  // of the folder's own set; 0: the root
    std::vector<EntrySet> sorted;
    std::size_t next_sorted = 0;

    std::optional<EntrySet> next() {
      if (sorted.empty()) return reader.next();
      if (next_sorted == sorted.size()) return std::nullopt;
      return std::move(sorted[next_sorted++]);
    }
  };

  Level level_of(std::vector<ClusterRun> runs, bool deleted, std::uint64_t slot,
                 WalkOrder order) const {
    SetReader reader(volume_.bytes_of(runs, volume_.cached));
    Level level{std::move(runs), std::move(reader), deleted, slot, {}, 0};
    if (order == WalkOrder::as_stored) return level;
    while (auto set = level.reader.next()) {
      if (level.sorted.size() % 1024 == 0) volume_.context.check_cancelled();
      level.sorted.push_back(std::move(*set));
    }
    sort_level(level.sorted, order, [](const EntrySet& set) {
      return LevelKey{set.name, set.folder()};
    });
    return level;
  }

  std::uint64_t place_of(const Level& level, std::uint64_t offset) const {
    for (const ClusterRun& run : level.runs) {
      const std::uint64_t bytes = run.count * volume_.geometry.cluster_bytes;
      if (offset < bytes) return volume_.geometry.cluster_offset(run.first) + offset;
      offset -= bytes;
    }
    return 0;
  }

  // The clusters of a folder, and none when a deleted one's are others' now.
  std::vector<ClusterRun> folder_runs(EntrySet set, bool deleted) const {
    set.size_bytes = std::min(set.size_bytes, kMaxFolderBytes);
    if (deleted && (set.first_cluster == 0 || volume_.in_use(set.first_cluster))) return {};
    std::vector<ClusterRun> runs = volume_.clusters_of(set);
    if (!volume_.has_table && !set.one_run) volume_.cut_to_folder(runs);
    for (std::size_t i = 0; deleted && i < runs.size(); ++i)
      for (std::uint64_t k = 0; k < runs[i].count; ++k)
        if (volume_.in_use(static_cast<std::uint32_t>(runs[i].first + k))) {
          runs[i].count = k;
          runs.resize(i + (k > 0 ? 1 : 0));
          break;
        }
    return runs;
  }

  void walk_sets(const WalkOptions& options,
                 const std::function<WalkStep(const Visit&)>& visit) const {
    const Geometry& g = volume_.geometry;
    std::vector<Level> levels;
    std::vector<std::string> path;
    std::set<std::uint32_t> entered = {g.root_cluster};
    WalkGuard guard(options, volume_.context);
    levels.push_back(level_of(volume_.root_runs(), false, 0, options.order));
    while (!levels.empty()) {
      Level& level = levels.back();
      const auto set = level.next();
      if (!set) {
        if (level.reader.broken() > 0)
          volume_.context.report(
              FindingCode::exfat_folder, Severity::damage, {place_of(level, 0), kSlotBytes},
              fmt::format("{} entries of a folder are corrupt", level.reader.broken()),
              "the others are listed");
        levels.pop_back();
        continue;
      }
      guard.meet();
      const bool deleted = set->deleted || level.deleted;
      if (deleted ? !options.deleted : (!options.active && !set->folder())) continue;
      const std::size_t depth = levels.size() - 1;
      const bool on_the_way = guard.on_the_way(depth);
      if (on_the_way && !capitals_.same(set->name, options.under[depth])) continue;
      path.resize(depth + 1);
      path.back() = set->name;
      const std::uint64_t slot = place_of(level, set->offset);
      if (!set->sum_is_right)
        volume_.context.report(
            FindingCode::exfat_folder, Severity::warning, {slot, kSlotBytes},
            fmt::format("the checksum of the entry \"{}\" is wrong", for_terminal(path.back())),
            "it is read as it is");
      const auto runs = set->folder() ? folder_runs(*set, deleted) : std::vector<ClusterRun>();
      WalkStep step = WalkStep::go_on;
      if (!on_the_way && (deleted || options.active)) {
        if (!guard.may_visit({slot, kSlotBytes})) return;
        step = visit({*set, slot, deleted, set->folder() && runs.empty(), path, level.slot});
        if (step == WalkStep::stop) return;
      }
      if (runs.empty() || !guard.wants_inside(depth, step)) continue;
      if (!entered.insert(runs.front().first).second) {
        if (!deleted) guard.report_loop(FindingCode::exfat_folder, {slot, kSlotBytes}, path.back());
        continue;
      }
      if (!guard.may_enter(levels.size(), {slot, kSlotBytes})) continue;
      levels.push_back(level_of(runs, deleted, slot, options.order));
    }
  }

  // Reads a set again: it may go on in the next cluster of its folder, which is the next one of
  // the chain or the next one at all.
  EntrySet set_at(std::uint64_t slot) const {
    const Geometry& g = volume_.geometry;
    const auto cluster = static_cast<std::uint32_t>(2 + (slot - g.heap_offset) / g.cluster_bytes);
    const std::uint64_t end = g.cluster_offset(cluster) + g.cluster_bytes;
    std::optional<EntrySet> found;
    const auto chained = volume_.chain(cluster, 2);
    std::vector<std::uint32_t> next = {cluster + 1};
    if (chained.size() == 2) next.insert(next.begin(), chained[1].first);
    for (const std::uint32_t after : next) {
      std::vector<Piece> pieces = {{ExtentKind::direct, end - slot, volume_.cached, slot}};
      if (g.valid_cluster(after))
        pieces.push_back(
            {ExtentKind::direct, g.cluster_bytes, volume_.cached, g.cluster_offset(after)});
      auto set = SetReader(make_joined(std::move(pieces))).next();
      if (!set || set->offset != 0) continue;
      if (!found || set->sum_is_right) found = std::move(set);
      if (found->sum_is_right) break;
    }
    if (!found)
      throw Error(ErrorCode::not_found, volume_.context.address, slot, "there is no entry here");
    return *found;
  }

  // Entries by the thousand that each claim the whole volume are not followed for ever.
  std::uint64_t most_claimed() const {
    return 1024 * std::uint64_t{volume_.geometry.cluster_count};
  }

  // Thread-safe: the first caller learns them, the others wait.
  const Claims& claims() const {
    std::call_once(once_, [&] {
      std::vector<ClusterRun> runs;
      std::uint64_t claimed = 0;
      WalkOptions deleted;
      deleted.active = false;
      deleted.deleted = true;
      walk_sets(deleted, [&](const Visit& seen) {
        const auto own =
            seen.set.folder() ? folder_runs(seen.set, true) : volume_.clusters_of(seen.set);
        runs.insert(runs.end(), own.begin(), own.end());
        for (const ClusterRun& run : own) claimed += run.count;
        return claimed > most_claimed() ? WalkStep::stop : WalkStep::go_on;
      });
      if (claimed > most_claimed()) {
        claims_.any = claims_.disputed = {{2, volume_.geometry.cluster_count}};
        return;
      }
      std::sort(runs.begin(), runs.end(),
                [](const ClusterRun& a, const ClusterRun& b) { return a.first < b.first; });
      for (const ClusterRun& run : runs) {
        const std::uint64_t end =
            claims_.any.empty() ? 0 : claims_.any.back().first + claims_.any.back().count;
        const std::uint64_t own_end = run.first + run.count;
        if (run.first < end) {
          add_merged(claims_.disputed, {run.first, std::min(end, own_end) - run.first});
          if (own_end > end) claims_.any.back().count += own_end - end;
        } else {
          claims_.any.push_back(run);
        }
      }
    });
    return claims_;
  }

  static void add_merged(std::vector<ClusterRun>& runs, ClusterRun run) {
    if (!runs.empty() && run.first <= runs.back().first + runs.back().count) {
      const std::uint64_t end =
          std::max(runs.back().first + runs.back().count, run.first + run.count);
      runs.back().count = end - runs.back().first;
    } else {
      runs.push_back(run);
    }
  }

  static void add(std::vector<Range>& ranges, Range range) {
    if (range.empty()) return;
    if (!ranges.empty() && ranges.back().end() == range.offset)
      ranges.back().length += range.length;
    else
      ranges.push_back(range);
  }

  Content content_of(const EntrySet& set, bool deleted) const {
    const Geometry& g = volume_.geometry;
    Content content;
    std::vector<Piece> pieces;
    std::uint64_t at = 0;
    const auto take = [&](const ClusterRun& run, bool guessed) {
      for (std::uint64_t k = 0; k < run.count && at < set.written_bytes;) {
        const auto cluster = static_cast<std::uint32_t>(run.first + k);
        const std::uint64_t clusters = deleted ? 1 : run.count - k;
        const Range part{at, std::min(clusters * g.cluster_bytes, set.written_bytes - at)};
        if (deleted && volume_.in_use(cluster)) {
          add(content.lost, part);
          pieces.push_back({ExtentKind::unreadable, part.length, nullptr, 0});
        } else {
          if (guessed || (deleted && holds(claims().disputed, cluster)))
            add(content.doubtful, part);
          if (!pieces.empty() && pieces.back().kind == ExtentKind::direct &&
              pieces.back().from_offset + pieces.back().length == g.cluster_offset(cluster))
            pieces.back().length += part.length;
          else
            pieces.push_back(
                {ExtentKind::direct, part.length, volume_.raw, g.cluster_offset(cluster)});
        }
        at += part.length;
        k += clusters;
      }
    };
    const std::vector<ClusterRun> runs = volume_.clusters_of(set);
    for (const ClusterRun& run : runs) take(run, false);
    if (at < set.written_bytes && deleted)
      for (const ClusterRun& run :
           volume_.free_after(runs, divide_up(set.written_bytes - at, g.cluster_bytes)))
        take(run, true);
    if (at < set.written_bytes) {
      add(content.lost, {at, set.written_bytes - at});
      pieces.push_back({ExtentKind::unreadable, set.written_bytes - at, nullptr, 0});
    }
    if (set.written_bytes < set.size_bytes)
      pieces.push_back({ExtentKind::zero, set.size_bytes - set.written_bytes, nullptr, 0});
    content.bytes = make_joined(std::move(pieces));
    return content;
  }

  bool nothing_in(Range place) const {
    if (known_zero(*volume_.raw, place)) return true;
    Bytes bytes(static_cast<std::size_t>(std::min<std::uint64_t>(place.length, 64u << 10)));
    volume_.cached->read(place.offset, bytes);
    return all_zero(bytes);
  }

  // Traces of files whose entries are lost: data nobody claims beside the file, or behind its end.
  bool traces_near(const EntrySet& set) const {
    const Geometry& g = volume_.geometry;
    const auto strange = [&](std::uint64_t cluster) {
      const auto number = static_cast<std::uint32_t>(cluster);
      return g.valid_cluster(number) && !volume_.in_use(number) && !holds(claims().any, number) &&
             !nothing_in({g.cluster_offset(number), g.cluster_bytes});
    };
    const auto runs = volume_.clusters_of(set);
    for (const ClusterRun& run : runs)
      if (strange(std::uint64_t{run.first} - 1) || strange(run.first + run.count)) return true;
    const std::uint64_t within = set.size_bytes % g.cluster_bytes;
    if (runs.empty() || within == 0) return false;
    const auto last = static_cast<std::uint32_t>(runs.back().first + runs.back().count - 1);
    return !nothing_in({g.cluster_offset(last) + within, g.cluster_bytes - within});
  }

  void fill(Entry& entry, const Visit& seen) const {
    const EntrySet& set = seen.set;
    entry.number = seen.slot;
    entry.id = std::to_string(seen.slot);
    entry.parent = seen.parent_slot == 0 ? std::string() : std::to_string(seen.parent_slot);
    entry.path = seen.path;
    entry.kind = set.folder() ? EntryKind::folder : EntryKind::file;
    entry.state = seen.deleted ? EntryState::deleted : EntryState::active;
    entry.size_bytes = set.folder() ? 0 : set.size_bytes;
    entry.modified = set.modified;
    entry.created = set.created;
    entry.accessed = set.accessed;
    entry.attributes = dos_attributes(set.attributes);
    entry.evidence.clear();
    entry.intact = 1;
    if (seen.deleted)
      entry.evidence = set.deleted ? "its entry, by its checksum" : "its entry in a deleted folder";
    if (set.folder()) {
      if (seen.folder_is_lost) {
        entry.intact = 0;
        entry.evidence += "; its clusters are others' now";
      }
      return;
    }
    if (!seen.deleted && !known_unreadable() && set.one_run) return;
    fill_intact(entry, set, seen.deleted);
  }

  void fill_intact(Entry& entry, const EntrySet& set, bool deleted) const {
    if (set.size_bytes == 0) return;
    const std::uint64_t clusters =
        std::min(divide_up(set.size_bytes, facts_.cluster_bytes), facts_.cluster_count);
    if (deleted && (looked_at_ += clusters) > most_claimed()) {
      entry.intact.reset();
      entry.evidence += "; how much of it is left was not worked out: too much was claimed before";
      return;
    }
    const Content content = content_of(set, deleted);
    double gone = 0;
    DiscardedBytes zeros;
    content.bytes->extents({0, content.bytes->size()}, [&](const Extent& extent) {
      if (extent.kind == ExtentKind::unreadable) gone += static_cast<double>(extent.range.length);
      const bool nothing =
          extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated;
      if (deleted && extent.range.offset < set.written_bytes)
        zeros.add(extent.range.length, !nothing);
      return true;
    });
    const std::uint64_t discarded = zeros.bytes();
    std::uint64_t disputed = 0;
    for (const Range& range : content.doubtful) disputed += range.length;
    gone += 0.5 * static_cast<double>(disputed + discarded);
    entry.intact = std::max(0.0, 1 - gone / static_cast<double>(set.size_bytes));
    if (!deleted) return;
    entry.evidence += set.one_run ? "; clusters in one run" : "; clusters by their chain";
    if (disputed > 0)
      entry.evidence += fmt::format(
          "; {} of it is a guess, or claimed by another deleted file, too", human_size(disputed));
    if (discarded > 0)
      entry.evidence +=
          fmt::format("; {} of it zeros, probably discarded by the drive", human_size(discarded));
    if (*entry.intact == 1 && traces_near(set)) {
      entry.intact = kUnproven;
      entry.evidence += "; there are traces of files whose entries are lost near it";
    }
  }

  bool known_unreadable() const {
    std::call_once(unreadable_once_, [&] {
      volume_.raw->extents({0, volume_.raw->size()}, [&](const Extent& extent) {
        unreadable_ = unreadable_ || extent.kind == ExtentKind::unreadable;
        return !unreadable_;
      });
    });
    return unreadable_;
  }

  Volume volume_;
  FileSystemFacts facts_;
  UpCase capitals_;
  mutable std::atomic<std::uint64_t> looked_at_ = 0;  // clusters of deleted files
  mutable std::once_flag once_;
  mutable Claims claims_;
  mutable std::once_flag unreadable_once_;
  mutable bool unreadable_ = false;
};

}  // namespace

namespace {

// By its own boot region, or the copy of that.
std::optional<Volume> by_its_head(const SourcePtr& volume, const Context& context) {
  auto geometry = find_geometry(*volume, context);
  if (!geometry) return std::nullopt;
  if (geometry->volume_bytes > volume->size())
    context.report(FindingCode::exfat_volume_size, Severity::damage,
                   {volume->size(), geometry->volume_bytes - volume->size()},
                   fmt::format("the file system has {} bytes, its volume only {}",
                               geometry->volume_bytes, volume->size()),
                   "what is past the end is treated as unreadable");
  const SourcePtr whole = make_window(volume, {0, geometry->volume_bytes});
  // Clusters that are not there are walked over by nobody.
  const std::uint64_t there = volume->size() - std::min(volume->size(), geometry->heap_offset);
  geometry->cluster_count = static_cast<std::uint32_t>(
      std::min<std::uint64_t>(geometry->cluster_count, divide_up(there, geometry->cluster_bytes)));
  if (!geometry->valid_cluster(geometry->root_cluster)) return std::nullopt;  // cut before its root
  return Volume{whole, make_cached(whole, context), *geometry, nullptr, context};
}

}  // namespace

std::shared_ptr<const FileSystem> open_exfat(const FileSystemSources& sources,
                                             const FileSystemOptions& options,
                                             const Context& context) {
  auto opened = options.geometry.empty() ? by_its_head(sources.volume, context)
                                         : by_hand(sources.volume, options, context);
  if (!opened) return nullptr;
  const Geometry& g = opened->geometry;
  const SourcePtr root = opened->bytes_of(opened->root_runs(), opened->cached);
  const VolumeSlots slots = read_volume_slots(root, g.second_fat);
  const std::uint64_t needed = (std::uint64_t{g.cluster_count} + 7) / 8;
  // By hand the count of clusters is only how many there can be.
  const bool fits =
      options.geometry.empty() ? slots.bitmap_bytes >= needed : slots.bitmap_bytes > 0;
  if (!fits || !g.valid_cluster(slots.bitmap_cluster)) {
    context.report(FindingCode::exfat_bitmap, Severity::damage, {g.heap_offset, kSlotBytes},
                   "the allocation bitmap cannot be found", "every cluster counts as in use");
  } else {
    const std::uint64_t clusters = divide_up(std::min(needed, slots.bitmap_bytes), g.cluster_bytes);
    opened->bitmap =
        opened->bytes_of(opened->chain(slots.bitmap_cluster, clusters), opened->cached);
  }
  return std::make_shared<ExfatFileSystem>(std::move(*opened), slots);
}

}  // namespace lantern
