#include "filesystem/fat/cluster_index.h"

#include <fmt/format.h>

#include <algorithm>

#include "filesystem/fat/deleted/start_cluster.h"
#include "filesystem/fat/tree.h"
#include "lantern/text.h"

namespace lantern::fat {
namespace {

// The most parts kept for files without a chain: 48 MiB of them.
constexpr std::size_t kMaxParts = 4u << 20;
// Clusters up to this size are peeked at through the cache, larger ones one by one.
constexpr std::uint32_t kSmallCluster = 4096;

// What is known of a file that has to be placed once all active files are known.
struct Waiting {
  std::uint64_t slot_offset = 0;
  std::uint32_t first = 0;
  std::uint32_t size_bytes = 0;
};

class ClusterIndexer {
 public:
  explicit ClusterIndexer(const Disk& disk)
      : disk_(disk),
        layout_(disk.geometry),
        cursor_(disk.table),
        peeked_(std::size_t{disk.geometry.cluster_count} + 2),
        begins_folder_(std::size_t{disk.geometry.cluster_count} + 2),
        steps_left_(std::uint64_t{disk.geometry.cluster_count} * 16 + (1u << 20)) {}

  Layout take() {
    look_for_known_unreadable();
    own_active();
    for (const Waiting& file : broken_) place_broken(file);
    if (any_deleted_) place_deleted();
    sort_claims();
    find_disputes();
    doubt_where_entries_are_lost();
    find_tangled();
    std::sort(layout_.placed.begin(), layout_.placed.end(),
              [](const Placed& a, const Placed& b) { return a.slot_offset < b.slot_offset; });
    return std::move(layout_);
  }

 private:
  std::uint64_t clusters_for(std::uint32_t size_bytes) const {
    return (std::uint64_t{size_bytes} + disk_.geometry.cluster_bytes - 1) /
           disk_.geometry.cluster_bytes;
  }

  void look_for_known_unreadable() {
    std::uint64_t pieces_left = 1u << 20;
    disk_.raw->extents({0, disk_.raw->size()}, [&](const Extent& extent) {
      layout_.known_unreadable = extent.kind == ExtentKind::unreadable || --pieces_left == 0;
      return !layout_.known_unreadable;
    });
  }

  bool spend(std::uint64_t steps) {
    if (steps > steps_left_) {
      disk_.context.report(FindingCode::budget_entries, Severity::warning, {},
                           "the entries claim many times the clusters the volume has",
                           "the later ones are listed without saying how much is left of them");
      steps_left_ = 0;
      return false;
    }
    steps_left_ -= steps;
    return true;
  }

  void own(const std::vector<ClusterRun>& runs, std::uint64_t slot_offset) {
    bool told = false;
    for (const ClusterRun& run : runs)
      for (std::uint32_t k = 0; k < run.count; ++k) {
        if (!layout_.owned.set(run.first + k)) continue;
        layout_.crossed.set(run.first + k);
        layout_.any_crossed = true;
        if (!told)
          disk_.context.report(FindingCode::fat_cross_linked, Severity::damage,
                               {slot_offset, kSlotBytes},
                               fmt::format("two entries hold cluster {}", run.first + k),
                               "both are read as they stand; one of them is wrong");
        told = true;
      }
  }

  void own_active() {
    if (disk_.wide())
      own(disk_.table.chain(cursor_, disk_.geometry.root_cluster, disk_.geometry.cluster_count)
              .runs,
          0);
    Tree tree(disk_, layout_, Tree::Mode::learn);
    tree.learn_known_folders();
    tree.walk({}, [&](const Visit& visit) {
      const std::uint64_t wanted =
          visit.slot.folder() ? disk_.geometry.cluster_count : clusters_for(visit.slot.size_bytes);
      if (wanted == 0) return WalkStep::go_on;
      const std::uint32_t first = visit.slot.first_cluster();
      const Chain chain = disk_.table.chain(cursor_, first, std::min(wanted, steps_left_));
      if (!spend(chain.clusters + 1)) return WalkStep::stop;
      own(chain.runs, visit.slot_offset);
      if (!visit.slot.folder() && (chain.clusters < wanted || chain.end != Chain::End::whole)) {
        report_chain(chain, visit, wanted);
        broken_.push_back({visit.slot_offset, first, visit.slot.size_bytes});
      }
      return WalkStep::go_on;
    });
    any_deleted_ = tree.passed_deleted();
    // The clusters of folders the table has lost.
    for (const auto& [first, runs] : layout_.folders)
      for (const ClusterRun& run : runs)
        for (std::uint32_t k = 0; k < run.count; ++k) layout_.owned.set(run.first + k);
  }

  void report_chain(const Chain& chain, const Visit& visit, std::uint64_t wanted) {
    const Range place{visit.slot_offset, kSlotBytes};
    const std::string name = for_terminal(visit.path.back());
    const std::string instead = "the rest is placed by rule and marked in doubt";
    if (chain.end == Chain::End::loop)
      disk_.context.report(FindingCode::fat_chain_loop, Severity::damage, place,
                           fmt::format("the chain of \"{}\" comes back to itself after {} clusters",
                                       name, chain.clusters),
                           instead);
    else if (chain.end == Chain::End::broken)
      disk_.context.report(FindingCode::fat_chain_broken, Severity::damage, place,
                           fmt::format("the chain of \"{}\" breaks off after {} of {} clusters",
                                       name, chain.clusters, wanted),
                           instead);
    else
      disk_.context.report(FindingCode::fat_chain_short, Severity::damage, place,
                           fmt::format("the chain of \"{}\" ends after {} of {} clusters", name,
                                       chain.clusters, wanted),
                           instead);
  }

  bool in_use(std::uint32_t cluster) {
    return cursor_.in_use(cluster) || layout_.owned.get(cluster) ||
           layout_.folder_parts.get(cluster);
  }

  bool begins_folder(std::uint32_t cluster) {
    if (!peeked_.set(cluster)) {
      const bool small = disk_.geometry.cluster_bytes <= kSmallCluster;
      Bytes start(kFolderStartBytes);
      (small ? disk_.cached : disk_.raw)->read(disk_.geometry.cluster_offset(cluster), start);
      const auto dots = parse_folder_start(start, disk_.wide());
      if (dots && dots->self == cluster) begins_folder_.set(cluster);
    }
    return begins_folder_.get(cluster);
  }

  void add(Placed& placed, std::uint32_t first, std::uint32_t count, Certainty certainty) {
    if (placed.part_count > 0) {
      Part& last = layout_.parts.back();
      const bool follows =
          last.first == 0 ? first == 0 : first != 0 && first == last.first + last.count;
      if (last.certainty == certainty && follows) {
        last.count += count;
        return;
      }
    }
    layout_.parts.push_back({first, count, certainty});
    ++placed.part_count;
  }

  // Places `left` clusters from `candidate` on into free ones. Behind a gap nothing is sure: the
  // gap may have been this file's own.
  void place_free(Placed& placed, std::uint32_t candidate, std::uint64_t left, bool sure) {
    while (left > 0 && disk_.geometry.valid_cluster(candidate)) {
      if (in_use(candidate) || begins_folder(candidate)) {
        if (sure) placed.rule = Placed::Rule::next_free;
        sure = false;
      } else {
        add(placed, candidate, 1, sure ? Certainty::sure : Certainty::doubtful);
        --left;
      }
      ++candidate;
    }
  }

  // A file whose first cluster was taken after its deletion: what was written over it lies in its
  // run, not between its pieces.
  void place_in_one_run(Placed& placed, std::uint32_t first, std::uint64_t wanted) {
    for (std::uint64_t k = 0; k < wanted && disk_.geometry.valid_cluster(first); ++k, ++first) {
      const bool taken = in_use(first) || begins_folder(first);
      add(placed, taken ? 0 : first, 1, taken ? Certainty::lost : Certainty::sure);
    }
  }

  // Whether the sector in which the file ends, or the one behind it in its cluster, holds other
  // bytes than zeros past the end. Systems fill up the last sector they write with zeros, so that
  // such remains are often those of a larger file that has stood here since, and whose entry is
  // gone.
  bool remains_behind(std::uint32_t size_bytes) {
    constexpr std::uint32_t sector = 512;
    const std::uint32_t used = size_bytes % disk_.geometry.cluster_bytes;
    const Part& last = layout_.parts.back();
    if (used == 0 || last.first == 0) return false;
    const std::uint32_t to = (used + sector) / sector * sector;
    Bytes behind(to - used);
    disk_.cached->read(disk_.geometry.cluster_offset(last.first + last.count - 1) + used, behind);
    return !all_zero(behind);
  }

  Placed begin_placed(const Waiting& file) {
    Placed placed;
    placed.slot_offset = file.slot_offset;
    placed.first_part = layout_.parts.size();
    return placed;
  }

  bool affordable(Placed& placed, std::uint64_t clusters) {
    const std::uint64_t cost = std::min<std::uint64_t>(clusters, disk_.geometry.cluster_count) + 1;
    if (layout_.parts.size() < kMaxParts && spend(cost)) return true;
    placed.rule = Placed::Rule::not_examined;
    layout_.placed.push_back(placed);
    return false;
  }

  void place_broken(const Waiting& file) {
    Placed placed = begin_placed(file);
    placed.broken_chain = true;
    const std::uint64_t wanted = clusters_for(file.size_bytes);
    if (!affordable(placed, wanted)) return;
    const Chain chain = disk_.table.chain(cursor_, file.first, wanted);
    for (const ClusterRun& run : chain.runs)
      for (std::uint32_t k = 0; k < run.count; ++k)
        add(placed, run.first + k, 1,
            layout_.crossed.get(run.first + k) ? Certainty::doubtful : Certainty::sure);
    const bool start_free = chain.clusters == 0 && disk_.geometry.valid_cluster(file.first) &&
                            !cursor_.in_use(file.first);
    if (start_free)
      place_free(placed, file.first, wanted, true);
    else if (chain.clusters > 0)
      place_free(placed, chain.last_cluster + 1, wanted - chain.clusters, false);
    else
      placed.rule = Placed::Rule::no_start;
    // What an active file holds is not free for deleted ones.
    for (std::size_t i = placed.first_part; i < layout_.parts.size(); ++i)
      for (std::uint32_t k = 0; k < layout_.parts[i].count; ++k)
        layout_.owned.set(layout_.parts[i].first + k);
    layout_.placed.push_back(placed);
  }

  // First cluster of a deleted file, with its high half worked out where it was wiped.
  std::uint32_t start_of(const Visit& visit, Placed& placed) {
    const std::uint32_t first = visit.slot.first_cluster();
    const std::uint32_t halves = disk_.geometry.cluster_count >> 16;
    const bool may_be_wiped = disk_.wide() && halves > 0 && visit.slot.deleted &&
                              visit.slot.first_high == 0 && first != 0 && !halves_survive_;
    if (!may_be_wiped || !spend(halves)) return first;
    std::vector<std::uint32_t> candidates;
    bool never_used_above = true;
    for (std::uint32_t high = 0; high <= halves; ++high) {
      const std::uint32_t candidate = first | high << 16;
      if (!disk_.geometry.valid_cluster(candidate)) continue;
      const bool free = !in_use(candidate) && !begins_folder(candidate);
      if (free) candidates.push_back(candidate);
      if (high > 0 && (!free || holds_something(disk_, candidate))) never_used_above = false;
    }
    // Nothing ever stood at the other candidates: the number is as it was written.
    if (candidates.empty() || never_used_above) return first;
    placed.start_worked_out = true;
    const std::uint32_t near = near_ != 0 ? near_ : visit.parent_cluster;
    return best_start(disk_, candidates,
                      {visit.path.back(), visit.slot.size_bytes, near, halves_wiped_});
  }

  void place_deleted() {
    learn_whether_halves_survive();
    Tree tree(disk_, layout_, Tree::Mode::learn);
    WalkOptions all;
    all.deleted = true;
    tree.walk(all, [&](const Visit& visit) {
      if (!visit.deleted) {
        if (visit.slot.first_cluster() != 0) near_ = visit.slot.first_cluster();
        return WalkStep::go_on;
      }
      if (visit.folder_is_lost) folder_lost_ = true;
      if (!visit.slot.folder() && visit.slot.size_bytes > 0) place(visit);
      return WalkStep::go_on;
    });
  }

  // One deleted slot with a high half shows that whoever deleted here does not wipe them.
  void learn_whether_halves_survive() {
    if (!disk_.wide() || disk_.geometry.cluster_count >> 16 == 0) return;
    Layout scratch(disk_.geometry);
    scratch.owned = layout_.owned;
    Tree tree(disk_, scratch, Tree::Mode::learn);
    WalkOptions all;
    all.deleted = true;
    tree.walk(all, [&](const Visit& visit) {
      const auto folder = scratch.deleted_folders.find(visit.slot_offset);
      if (folder != scratch.deleted_folders.end() && folder->second != visit.slot.first_cluster())
        halves_wiped_ = true;
      halves_survive_ = visit.slot.deleted && visit.slot.first_high != 0 &&
                        disk_.geometry.valid_cluster(visit.slot.first_cluster());
      return halves_survive_ ? WalkStep::stop : WalkStep::go_on;
    });
  }

  void place(const Visit& visit) {
    const Waiting file{visit.slot_offset, 0, visit.slot.size_bytes};
    Placed placed = begin_placed(file);
    const std::uint64_t wanted = clusters_for(file.size_bytes);
    if (!affordable(placed, wanted)) return;
    const std::uint32_t first = start_of(visit, placed);
    if (!disk_.geometry.valid_cluster(first)) {
      placed.rule = Placed::Rule::no_start;
    } else if (cursor_.in_use(first) && !layout_.owned.get(first)) {
      place_by_kept_chain(placed, first, wanted);
    } else if (in_use(first) || begins_folder(first)) {
      placed.rule = Placed::Rule::first_taken;
      place_in_one_run(placed, first, wanted);
    } else {
      place_free(placed, first, wanted, !placed.start_worked_out);
      placed.unproven = remains_behind(file.size_bytes);
      starts_.push_back({file.slot_offset, first, file.size_bytes, wanted, visit.slot.created,
                         visit.slot.modified});
      near_ = first;
    }
    layout_.placed.push_back(placed);
  }

  // Nobody else owns the chain that begins here: the deletion left it standing.
  void place_by_kept_chain(Placed& placed, std::uint32_t first, std::uint64_t wanted) {
    placed.rule = Placed::Rule::kept_chain;
    const Chain chain = disk_.table.chain(cursor_, first, wanted);
    std::uint64_t taken = 0;
    for (const ClusterRun& run : chain.runs)
      for (std::uint32_t k = 0; k < run.count; ++k, ++taken) {
        if (layout_.owned.get(run.first + k)) {
          add(placed, 0, 1, Certainty::lost);
          continue;
        }
        add(placed, run.first + k, 1, Certainty::sure);
      }
    if (taken == 0) {  // marked bad, or a value that is none: the cluster itself is all there is
      placed.rule = Placed::Rule::one_run;
      add(placed, first, 1, Certainty::doubtful);
      ++taken;
    }
    const std::uint32_t last = taken == 1 ? first : chain.last_cluster;
    if (taken < wanted) place_free(placed, last + 1, wanted - taken, false);
  }

  void sort_claims() {
    for (const Part& part : layout_.parts)
      if (part.first != 0) claims_.push_back({part.first, part.count});
    std::sort(claims_.begin(), claims_.end(),
              [](const ClusterRun& a, const ClusterRun& b) { return a.first < b.first; });
  }

  void find_disputes() {
    std::uint32_t reached = 0;
    for (const ClusterRun& claim : claims_) {
      const std::uint32_t end = claim.first + claim.count;
      if (claim.first < reached) {
        const std::uint32_t from = layout_.disputed.empty()
                                       ? claim.first
                                       : std::max(claim.first, layout_.disputed.back().first +
                                                                   layout_.disputed.back().count);
        const std::uint32_t to = std::min(end, reached);
        if (from < to) layout_.disputed.push_back({from, to - from});
      }
      reached = std::max(reached, end);
    }
  }

  // Data in a free cluster that no entry claims: a file has been there whose entry is gone.
  bool holds_unclaimed_data(std::uint32_t cluster) {
    if (!disk_.geometry.valid_cluster(cluster) || in_use(cluster)) return false;
    const auto after =
        std::upper_bound(claims_.begin(), claims_.end(), cluster,
                         [](std::uint32_t c, const ClusterRun& claim) { return c < claim.first; });
    const bool claimed =
        after != claims_.begin() && cluster - std::prev(after)->first < std::prev(after)->count;
    return !claimed && !begins_folder(cluster) && holds_something(disk_, cluster);
  }

  // A file whose entry is gone claims nothing any more, and may still have been written over
  // another. Where one has been close by, or where a whole folder of entries is lost, nothing is
  // proven.
  void doubt_where_entries_are_lost() {
    for (Placed& placed : layout_.placed) {
      if (placed.rule != Placed::Rule::one_run || placed.part_count == 0 || placed.broken_chain)
        continue;
      const Part& first = layout_.parts[placed.first_part];
      const Part& last = layout_.parts[placed.first_part + placed.part_count - 1];
      placed.unproven = placed.unproven || folder_lost_ || holds_unclaimed_data(first.first - 1) ||
                        holds_unclaimed_data(last.first + last.count);
    }
  }

  void find_tangled() {
    if (layout_.disputed.empty()) return;
    layout_.tangled =
        tangled(std::move(starts_), disk_.geometry.cluster_count + 2, [&](std::uint32_t cluster) {
          if (cluster % 4096 == 0) disk_.context.check_cancelled();
          return !in_use(cluster) && !begins_folder(cluster);
        });
    for (std::size_t i = 0; i < layout_.tangled.size(); ++i)
      for (const Start& start : layout_.tangled[i].members)
        layout_.tangled_in.emplace(start.slot_offset, i);
  }

  const Disk& disk_;
  Layout layout_;
  Table::Cursor cursor_;
  Bitmap peeked_;
  Bitmap begins_folder_;
  std::uint64_t steps_left_;
  std::vector<Waiting> broken_;
  bool any_deleted_ = false;
  bool halves_survive_ = false;
  bool halves_wiped_ = false;
  std::uint32_t near_ = 0;
  bool folder_lost_ = false;        // a deleted folder whose entries cannot be read
  std::vector<ClusterRun> claims_;  // of the placed files, by first cluster
  std::vector<Start> starts_;       // of the deleted files that may lie among each other
};

}  // namespace

Layout index_clusters(const Disk& disk) {
  return ClusterIndexer(disk).take();
}

}  // namespace lantern::fat
