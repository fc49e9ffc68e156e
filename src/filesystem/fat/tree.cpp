#include "filesystem/fat/tree.h"
#include "filesystem/level_order.h"
#include "filesystem/walk_guard.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/checked.h"
#include "lantern/text.h"

namespace lantern::fat {
namespace {

// The specification allows 65,536 slots; more is read with a word, up to eight times that.
constexpr std::uint64_t kSpecifiedFolderBytes = 65536 * kSlotBytes;
constexpr std::uint64_t kMaxFolderBytes = 8 * kSpecifiedFolderBytes;
// How far ahead a folder's next part is looked for when the table no longer says.
constexpr std::uint32_t kContinuationReach = 8192;
// Stands in for what cannot be read.
constexpr std::byte kFiller{0xE5};

bool has_end_mark(ByteView cluster) {
  for (std::size_t at = 0; at < cluster.size(); at += kSlotBytes)
    if (cluster[at] == std::byte{0}) return true;
  return false;
}

}  // namespace

std::uint64_t Folder::slot_offset(std::size_t slot_index) const {
  std::uint64_t at = slot_index * kSlotBytes;
  for (const Range& place : places) {
    if (at < place.length) return place.offset + at;
    at -= place.length;
  }
  return 0;
}

Tree::Tree(const Disk& disk, Layout& layout, Mode mode)
    : disk_(disk),
      layout_(layout),
      mode_(mode),
      cursor_(disk.table),
      probes_left_(std::uint64_t{disk.geometry.cluster_count} * 2 + 65536 +
                   disk.folders.size() * 4 * kContinuationReach) {}

Folder Tree::read_root() {
  // One that was made up lies in a place of its own, as on the narrower volumes.
  if (disk_.geometry.root_bytes == 0) return read_folder(disk_.geometry.root_cluster);
  Folder root;
  append(root, {disk_.geometry.root_offset, disk_.geometry.root_bytes});
  return root;
}

// Adds what lies at `place`. Slots that cannot be read become deleted ones of no meaning, so that
// those behind them are still met.
void Tree::append(Folder& folder, const Range& place) const {
  const std::size_t at = folder.bytes.size();
  folder.places.push_back(place);
  folder.bytes.resize(at + static_cast<std::size_t>(place.length), kFiller);
  const auto target = std::span(folder.bytes).subspan(at);
  const auto lose = [&](const Range& lost) {
    const auto from =
        static_cast<std::size_t>(lost.offset - place.offset) / kSlotBytes * kSlotBytes;
    const auto to = divide_up(lost.end() - place.offset, kSlotBytes) * kSlotBytes;
    std::fill(
        target.begin() + static_cast<std::ptrdiff_t>(from),
        target.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(to, target.size())),
        kFiller);
    disk_.context.report(FindingCode::fat_folder_broken, Severity::damage, lost,
                         "part of a folder cannot be read", "the rest of it is listed");
  };
  const ReadResult got = disk_.cached->read(place.offset, target);
  for (const Range& lost : got.unreadable) lose(lost);
  if (got.length < target.size()) lose({place.offset + got.length, target.size() - got.length});
}

Folder Tree::read_runs(const std::vector<ClusterRun>& runs) const {
  Folder folder;
  for (const ClusterRun& run : runs)
    append(folder, {disk_.geometry.cluster_offset(run.first),
                    std::uint64_t{run.count} * disk_.geometry.cluster_bytes});
  return folder;
}

Folder Tree::read_folder(std::uint32_t first) {
  if (mode_ == Mode::learn) return read_runs(learn_runs(first));
  const auto known = layout_.folders.find(first);
  if (known != layout_.folders.end()) return read_runs(known->second);
  return read_runs(
      disk_.table.chain(cursor_, first, kMaxFolderBytes / disk_.geometry.cluster_bytes).runs);
}

bool Tree::available(std::uint32_t cluster) {
  return disk_.geometry.valid_cluster(cluster) && !cursor_.in_use(cluster) &&
         !layout_.owned.get(cluster);
}

// The runs of a folder; those that no whole chain gives are kept in the layout.
std::vector<ClusterRun> Tree::learn_runs(std::uint32_t first) {
  const auto known = layout_.folders.find(first);
  if (known != layout_.folders.end()) return known->second;
  if (!disk_.geometry.valid_cluster(first)) return layout_.folders[first] = {};
  const std::uint64_t most = kMaxFolderBytes / disk_.geometry.cluster_bytes;
  Chain chain = disk_.table.chain(cursor_, first, most);
  const Range place{disk_.geometry.cluster_offset(first), disk_.geometry.cluster_bytes};
  if (chain.clusters * disk_.geometry.cluster_bytes > kSpecifiedFolderBytes)
    disk_.context.report(FindingCode::fat_folder_too_large, Severity::warning, place,
                         fmt::format("a folder of {} bytes is larger than the format allows",
                                     chain.clusters * disk_.geometry.cluster_bytes),
                         fmt::format("up to {} bytes of it are listed", kMaxFolderBytes));
  if (chain.end == Chain::End::whole) return chain.runs;
  if (chain.end == Chain::End::loop) {
    disk_.context.report(
        FindingCode::fat_chain_loop, Severity::damage, place,
        fmt::format("the chain of a folder comes back to itself after {} clusters", chain.clusters),
        "each cluster is read once");
    return layout_.folders[first] = chain.runs;
  }
  std::vector<ClusterRun> runs = chain.runs;
  if (runs.empty())
    runs.push_back({first, 1});  // free in the table: deleted, or the table is corrupt
  continue_folder(runs, {});
  return layout_.folders[first] = runs;
}

void Tree::learn_known_folders() {
  std::vector<std::uint32_t> firsts = disk_.folders;
  std::sort(firsts.rbegin(), firsts.rend());
  for (const std::uint32_t first : firsts)
    if (disk_.geometry.valid_cluster(first)) layout_.folders[first] = {{first, 1}};
  const auto learn = [&](const auto& goes_on) {
    std::erase_if(firsts, [&](std::uint32_t first) {
      disk_.context.check_cancelled();
      const auto known = layout_.folders.find(first);
      return known == layout_.folders.end() || goes_on(known->second, first);
    });
  };
  learn([&](auto& runs, std::uint32_t) { return continue_behind_files(runs); });
  // What is in a folder was most often written after it was made.
  learn([&](auto& runs, std::uint32_t first) { return continue_folder(runs, {first, true}); });
  learn([&](auto& runs, std::uint32_t first) { return continue_folder(runs, {first, false}); });
}

// False: it is full where nothing behind its last file goes on.
bool Tree::continue_behind_files(std::vector<ClusterRun>& runs) {
  Bytes cluster(disk_.geometry.cluster_bytes), next(cluster.size());
  for (std::uint64_t bytes = cluster.size(); bytes < kSpecifiedFolderBytes;
       bytes += cluster.size()) {
    disk_.cached->read(disk_.geometry.cluster_offset(runs.back().first + runs.back().count - 1),
                       cluster);
    if (has_end_mark(cluster)) return true;
    std::uint64_t behind = 0;
    SlotReader reader(cluster, disk_.wide(), false);
    while (const auto slot = reader.next())
      // Behind a folder lies what is in it: no cluster can be told.
      behind =
          slot->folder() ? 0
          : slot->size_bytes == 0
              ? behind
              : slot->first_cluster() + divide_up(std::uint64_t{slot->size_bytes}, cluster.size());
    const auto candidate = static_cast<std::uint32_t>(behind);
    if (behind > 0xFFFFFFFF || !may_go_on_in(candidate, cluster, {runs.front().first, false}, next))
      return false;
    layout_.folder_parts.set(candidate);
    append_part(runs, candidate);
  }
  return true;
}

void Tree::append_part(std::vector<ClusterRun>& runs, std::uint32_t cluster) {
  if (runs.back().first + runs.back().count == cluster)
    ++runs.back().count;
  else
    runs.push_back({cluster, 1});
}

bool Tree::may_go_on_in(std::uint32_t cluster, const Bytes& before, Owner owner, Bytes& bytes) {
  if (!available(cluster) || layout_.folder_parts.get(cluster)) return false;
  disk_.cached->read(disk_.geometry.cluster_offset(cluster), bytes);
  if (!looks_like_folder_part(bytes) || !follows(before, bytes)) return false;
  SlotReader reader(bytes, disk_.wide(), false);
  while (const auto slot = owner.first == 0 ? std::nullopt : reader.next()) {
    const std::uint32_t first = slot->first_cluster();
    if (owner.in_order && first != 0 && first < owner.first) return false;
    // A folder in it says which it is in.
    const auto start =
        slot->folder() && disk_.geometry.valid_cluster(first) ? folder_start(first) : std::nullopt;
    const bool in_root = owner.first == disk_.geometry.root_cluster;
    if (start && start->self == first && start->parent != (in_root ? 0 : owner.first)) return false;
  }
  return true;
}

// A folder that is full goes on somewhere: in the next free cluster that is shaped like the later
// part of a folder, looked for onwards and then from the start of the volume.
// False: it is full, and nothing goes on with it.
bool Tree::continue_folder(std::vector<ClusterRun>& runs, Owner owner) {
  Bytes cluster(disk_.geometry.cluster_bytes);
  std::uint32_t last = runs.back().first + runs.back().count - 1;
  for (std::uint64_t bytes = cluster.size(); bytes < kSpecifiedFolderBytes;
       bytes += cluster.size()) {
    disk_.cached->read(disk_.geometry.cluster_offset(last), cluster);
    if (has_end_mark(cluster)) return true;
    std::optional<std::uint32_t> next = find_folder_part(last + 1, cluster, owner);
    if (!next) next = find_folder_part(2, cluster, owner);
    if (!next) return false;
    layout_.folder_parts.set(*next);
    append_part(runs, *next);
    last = *next;
  }
  return true;
}

std::optional<std::uint32_t> Tree::find_folder_part(std::uint32_t from, const Bytes& before,
                                                    Owner owner) {
  Bytes cluster(before.size());
  for (std::uint32_t candidate = from; candidate - from < kContinuationReach; ++candidate) {
    if (!disk_.geometry.valid_cluster(candidate) || probes_left_ == 0) return std::nullopt;
    if (!available(candidate) || layout_.folder_parts.get(candidate)) continue;
    --probes_left_;
    if (may_go_on_in(candidate, before, owner, cluster)) return candidate;
  }
  return std::nullopt;
}

std::optional<FolderStart> Tree::folder_start(std::uint32_t cluster) const {
  Bytes start(kFolderStartBytes);
  disk_.cached->read(disk_.geometry.cluster_offset(cluster), start);
  return parse_folder_start(start, disk_.wide());
}

bool Tree::is_own_start(const Slot& slot, std::uint32_t cluster, std::uint32_t parent) const {
  const auto start = folder_start(cluster);
  const bool parent_is_root = parent == 0 || parent == disk_.geometry.root_cluster;
  return start && start->self == cluster &&
         (start->parent == parent ||
          (parent_is_root &&
           (start->parent == 0 || start->parent == disk_.geometry.root_cluster))) &&
         slot.folder();
}

// Two deleted folders of one parent can name one cluster; "." keeps the moment of its own folder.
bool Tree::sibling_fits_better(const Slot& slot, std::uint32_t cluster, const Level& level) {
  const auto start = folder_start(cluster);
  if (!start || !start->created || slot.created == start->created) return false;
  const std::uint64_t cost = level.folder.bytes.size() / (kSlotBytes * 16);
  if (probes_left_ < cost) return false;
  probes_left_ -= cost;
  SlotReader reader(level.folder.bytes, disk_.wide(), level.deleted);
  while (const auto other = reader.next())
    if (other->index != slot.index && other->folder() && other->created == start->created &&
        other->first_low == (cluster & 0xFFFF))
      return true;
  return false;
}

// Where the folder of this slot begins; empty when that is lost.
std::optional<std::uint32_t> Tree::folder_cluster(const Slot& slot, const Level& level,
                                                  bool deleted) {
  const std::uint32_t first = slot.first_cluster();
  if (!deleted) {
    if (disk_.geometry.valid_cluster(first)) return first;
    return std::nullopt;
  }
  const std::uint64_t slot_offset = level.folder.slot_offset(slot.index);
  if (mode_ == Mode::read) {
    const auto known = layout_.deleted_folders.find(slot_offset);
    if (known == layout_.deleted_folders.end()) return std::nullopt;
    return known->second;
  }
  // The high half may have been wiped on deletion: "." tells the whole number.
  const std::uint32_t halves =
      disk_.wide() && slot.first_high == 0 ? disk_.geometry.cluster_count >> 16 : 0;
  for (std::uint32_t high = 0; high <= halves && probes_left_ > 0; ++high) {
    --probes_left_;
    const std::uint32_t candidate = first | high << 16;
    if (!disk_.geometry.valid_cluster(candidate) || layout_.owned.get(candidate)) continue;
    if (!is_own_start(slot, candidate, level.cluster)) continue;
    if (sibling_fits_better(slot, candidate, level)) return std::nullopt;
    return layout_.deleted_folders[slot_offset] = candidate;
  }
  return std::nullopt;
}

std::string Tree::root_label() {
  const Folder root = read_root();
  SlotReader reader(root.bytes, disk_.wide(), false);
  while (const auto slot = reader.next())
    if (slot->label() && !slot->deleted) return short_name_text(*slot, disk_.code_page);
  return {};
}

// In a sorted walk `next_slot` counts in the sorted list.
std::optional<Slot> Tree::next_slot(Level& level, WalkOrder order) const {
  std::size_t from = level.next_slot;
  if (order != WalkOrder::as_stored) {
    if (level.next_slot == level.sorted.size()) return std::nullopt;
    from = level.sorted[level.next_slot++];
  }
  const auto slot = SlotReader(level.folder.bytes, disk_.wide(), level.deleted, from).next();
  if (slot && order == WalkOrder::as_stored) level.next_slot = slot->index + 1;
  return slot;
}

void Tree::sort(Level& level, WalkOrder order) const {
  if (order == WalkOrder::as_stored) return;
  SlotReader reader(level.folder.bytes, disk_.wide(), level.deleted);
  std::vector<Slot> slots;
  while (auto slot = reader.next()) {
    if (slots.size() % 1024 == 0) disk_.context.check_cancelled();
    slots.push_back(std::move(*slot));
  }
  sort_level(slots, order, [&](const Slot& slot) {
    return LevelKey{display_name(slot, disk_.code_page), slot.folder()};
  });
  for (const Slot& slot : slots) level.sorted.push_back(slot.index);
}

void Tree::walk(const WalkOptions& options, const std::function<WalkStep(const Visit&)>& visit) {
  std::vector<Level> levels;
  std::unordered_set<std::uint32_t> entered;
  std::vector<std::string> path;
  WalkGuard guard(options, disk_.context);
  levels.push_back({read_root(), 0, false, 0, 0, {}});
  sort(levels.back(), options.order);
  entered.insert(disk_.geometry.root_cluster);
  while (!levels.empty()) {
    Level& level = levels.back();
    const auto slot = next_slot(level, options.order);
    if (!slot) {
      levels.pop_back();
      continue;
    }
    guard.meet();
    if (slot->label() || slot->dot()) continue;
    const bool deleted = slot->deleted || level.deleted;
    passed_deleted_ = passed_deleted_ || deleted;
    if (deleted ? !options.deleted : (!options.active && !slot->folder())) continue;
    const std::size_t depth = levels.size() - 1;
    path.resize(depth + 1);
    path.back() = display_name(*slot, disk_.code_page);
    const std::uint64_t slot_offset = level.folder.slot_offset(slot->index);
    if (slot->long_name_broken && !slot->deleted)
      disk_.context.report(FindingCode::fat_long_name, Severity::note, {slot_offset, kSlotBytes},
                           fmt::format("the long name before \"{}\" does not belong to it",
                                       for_terminal(path.back())),
                           "the short name is used");

    const bool on_the_way = guard.on_the_way(depth);
    if (on_the_way && !equal_ignoring_case(path.back(), options.under[depth]) &&
        !equal_ignoring_case(short_name_text(*slot, disk_.code_page), options.under[depth]))
      continue;
    const auto cluster = slot->folder() ? folder_cluster(*slot, level, deleted) : std::nullopt;
    WalkStep step = WalkStep::go_on;
    if (!on_the_way && (deleted || options.active)) {
      if (!guard.may_visit({slot_offset, kSlotBytes})) return;
      step = visit({*slot, slot_offset, deleted, deleted && slot->folder() && !cluster, path,
                    level.cluster, level.slot_offset});
      if (step == WalkStep::stop) return;
    }
    if (!slot->folder() || !guard.wants_inside(depth, step)) continue;
    if (!cluster) {
      if (!deleted)
        disk_.context.report(FindingCode::fat_folder_broken, Severity::damage,
                             {slot_offset, kSlotBytes},
                             fmt::format("the folder \"{}\" names cluster {}, which is invalid",
                                         for_terminal(path.back()), slot->first_cluster()),
                             "it is listed without content");
      continue;
    }
    if (!entered.insert(*cluster).second) {
      if (!deleted)
        guard.report_loop(FindingCode::fat_folder_loop, {slot_offset, kSlotBytes}, path.back());
      continue;
    }
    if (!guard.may_enter(levels.size(), {slot_offset, kSlotBytes})) continue;
    const Range start{disk_.geometry.cluster_offset(*cluster), kFolderStartBytes};
    const auto dots = folder_start(*cluster);
    Level inside{read_folder(*cluster), 0, deleted, *cluster, slot_offset, {}};
    if (!deleted && (!dots || dots->self != *cluster)) {
      const bool shaped =
          looks_like_folder_part(ByteView(inside.folder.bytes)
                                     .first(std::min<std::size_t>(inside.folder.bytes.size(),
                                                                  disk_.geometry.cluster_bytes)));
      disk_.context.report(
          FindingCode::fat_folder_broken, Severity::damage, start,
          fmt::format("the folder \"{}\" does not begin as one", for_terminal(path.back())),
          shaped || dots ? "what is shaped like entries is listed"
                         : "what is there is not a folder and is not listed");
      if (!shaped && !dots) continue;
    }
    levels.push_back(std::move(inside));
    sort(levels.back(), options.order);
  }
}

}  // namespace lantern::fat
