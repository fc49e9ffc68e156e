#include "filesystem/ext/deleted/claims.h"

#include <algorithm>
#include <set>

namespace lantern::ext {
namespace {

// Steps of comparing that hostile maps can ask for.
constexpr std::uint64_t kMaxSteps = 64u << 20;

// A stretch of the volume and who claims it last.
struct Stretch {
  std::uint64_t end = 0;  // blocks
  std::uint32_t latest = 0;
  bool alone = true;  // only one died that late
};

class Judge {
 public:
  Judge(const Volume& volume, const History& history, std::vector<Died> died,
        std::vector<Lost>& lost)
      : volume_(volume), died_(std::move(died)), lost_(lost), blocks_(volume, Bitmap::Of::blocks) {
    for (const JournalCopy& copy : history.copies) {
      std::uint32_t& last = last_structure_[copy.block];
      last = std::max(last, copy.sequence);
    }
    lay_out();
  }

  void run() {
    for (std::size_t i = 0; i < lost_.size(); ++i) {
      volume_.context.check_cancelled();
      for (const BlockRun& run : lost_[i].map.runs)
        if (!run.unwritten) judge(i, run);
      // Nodes with checksums of their own inode are right wherever they were read.
      if (!volume_.super.has(kMetadataSums)) judge_map(i);
    }
  }

 private:
  struct Event {
    std::uint64_t block;
    bool begins;
    std::uint32_t died;
  };

  void lay_out() {
    std::vector<Event> events;
    for (std::size_t i = 0; i < lost_.size(); ++i)
      for (const BlockRun& run : lost_[i].map.runs) {
        events.push_back({run.physical, true, died_[i].sequence});
        events.push_back({run.physical + run.count, false, died_[i].sequence});
      }
    std::sort(events.begin(), events.end(),
              [](const Event& a, const Event& b) { return a.block < b.block; });
    std::multiset<std::uint32_t> here;
    for (std::size_t i = 0; i < events.size();) {
      const std::uint64_t at = events[i].block;
      for (; i < events.size() && events[i].block == at; ++i) {
        if (events[i].begins)
          here.insert(events[i].died);
        else
          here.erase(here.find(events[i].died));
      }
      if (here.empty() || i == events.size()) continue;
      const std::uint32_t latest = *here.rbegin();
      stretches_.emplace_hint(stretches_.end(), at,
                              Stretch{events[i].block, latest, here.count(latest) == 1});
    }
  }

  enum class Verdict { own, doubtful, gone, taken };

  using Stretches = std::map<std::uint64_t, Stretch>;

  // `stretch`: the one that holds the block, or the next.
  Verdict verdict(const Died& died, std::uint64_t block, Stretches::const_iterator stretch) {
    if (died.owns_blocks) return Verdict::own;
    const auto structure = last_structure_.find(block);
    if (structure != last_structure_.end() && structure->second > died.sequence)
      return Verdict::gone;
    if (blocks_.in_use(block)) return Verdict::gone;
    if (stretch == stretches_.end() || stretch->first > block) return Verdict::own;
    if (stretch->second.latest > died.sequence) return Verdict::taken;
    return stretch->second.latest == died.sequence && !stretch->second.alone ? Verdict::doubtful
                                                                             : Verdict::own;
  }

  Stretches::const_iterator stretch_of(std::uint64_t block) const {
    auto stretch = stretches_.upper_bound(block);
    if (stretch != stretches_.begin() && std::prev(stretch)->second.end > block) --stretch;
    return stretch;
  }

  void judge(std::size_t index, const BlockRun& run) {
    auto stretch = stretch_of(run.physical);
    for (std::uint64_t i = 0; i < run.count; ++i) {
      if (++steps_ > kMaxSteps) {
        lost_[index].examined = false;
        return;
      }
      const std::uint64_t block = run.physical + i;
      while (stretch != stretches_.end() && stretch->second.end <= block) ++stretch;
      const Verdict found = verdict(died_[index], block, stretch);
      if (found == Verdict::gone || found == Verdict::taken)
        add(lost_[index].gone, {run.logical + i, 1});
      if (found == Verdict::taken) lost_[index].taken_bytes += volume_.super.block_bytes;
      if (found == Verdict::doubtful) add(lost_[index].doubtful, {run.logical + i, 1});
    }
  }

  // What a block of the map says is worth nothing once the block is another's.
  void judge_map(std::size_t index) {
    for (const MapNode& node : lost_[index].nodes_on_disk)
      if (verdict(died_[index], node.block, stretch_of(node.block)) != Verdict::own)
        add(lost_[index].gone, node.of);
  }

  void add(std::vector<Range>& ranges, Range blocks) const {
    const std::uint64_t bytes = volume_.super.block_bytes;
    if (!ranges.empty() && ranges.back().end() == blocks.offset * bytes)
      ranges.back().length += blocks.length * bytes;
    else
      ranges.push_back({blocks.offset * bytes, blocks.length * bytes});
  }

  const Volume& volume_;
  std::vector<Died> died_;
  std::vector<Lost>& lost_;
  Bitmap blocks_;
  std::map<std::uint64_t, std::uint32_t> last_structure_;  // block: newest sequence
  Stretches stretches_;                                    // by first block; disjoint
  std::uint64_t steps_ = 0;
};

}  // namespace

void judge_claims(const Volume& volume, const History& history, std::vector<Died> died,
                  std::vector<Lost>& lost) {
  Judge(volume, history, std::move(died), lost).run();
}

}  // namespace lantern::ext
