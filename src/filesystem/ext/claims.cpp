#include "filesystem/ext/claims.h"

#include <algorithm>
#include <set>

namespace lantern::ext {
namespace {

// Steps of comparing that hostile maps can ask for.
constexpr std::uint64_t kMostSteps = 64u << 20;

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

  void judge(std::size_t index, const BlockRun& run) {
    const Died& died = died_[index];
    auto stretch = stretches_.upper_bound(run.physical);
    if (stretch != stretches_.begin()) --stretch;
    for (std::uint64_t i = 0; i < run.count; ++i) {
      if (++steps_ > kMostSteps) {
        lost_[index].examined = false;
        return;
      }
      const std::uint64_t block = run.physical + i;
      while (stretch != stretches_.end() && stretch->second.end <= block) ++stretch;
      const auto structure = last_structure_.find(block);
      const bool was_structure = structure != last_structure_.end() &&
                                 structure->second > died.sequence && !died.owns_blocks;
      const bool used = !died.owns_blocks && blocks_.in_use(block);
      const bool later = !died.owns_blocks && stretch != stretches_.end() &&
                         stretch->first <= block && stretch->second.latest > died.sequence;
      const bool same = !died.owns_blocks && stretch != stretches_.end() &&
                        stretch->first <= block && stretch->second.latest == died.sequence &&
                        !stretch->second.alone;
      if (used || was_structure || later)
        add(lost_[index].gone, run.logical + i);
      else if (same)
        add(lost_[index].doubtful, run.logical + i);
    }
  }

  void add(std::vector<Range>& ranges, std::uint64_t block) const {
    const std::uint64_t bytes = volume_.super.block_bytes;
    if (!ranges.empty() && ranges.back().end() == block * bytes)
      ranges.back().length += bytes;
    else
      ranges.push_back({block * bytes, bytes});
  }

  const Volume& volume_;
  std::vector<Died> died_;
  std::vector<Lost>& lost_;
  Bitmap blocks_;
  std::map<std::uint64_t, std::uint32_t> last_structure_;  // block: newest sequence
  std::map<std::uint64_t, Stretch> stretches_;             // by first block; disjoint
  std::uint64_t steps_ = 0;
};

}  // namespace

void judge_claims(const Volume& volume, const History& history, std::vector<Died> died,
                  std::vector<Lost>& lost) {
  Judge(volume, history, std::move(died), lost).run();
}

}  // namespace lantern::ext
