#include "source/failing_source.h"

#include <algorithm>

#include "lantern/error.h"
#include "source/given.h"

namespace lantern {

FailingSource::FailingSource(SourcePtr inner, FaultPlan plan, Wait wait)
    : inner_(given(std::move(inner))),
      plan_(std::move(plan)),
      wait_(std::move(wait)),
      failures_left_(std::make_unique<std::atomic<unsigned>[]>(plan_.flaky.size())),
      wrong_left_(std::make_unique<std::atomic<std::uint64_t>[]>(plan_.wrong.size())) {
  for (std::size_t i = 0; i < plan_.wrong.size(); ++i) wrong_left_[i] = plan_.wrong[i].reads;
  for (std::size_t i = 0; i < plan_.flaky.size(); ++i) failures_left_[i] = plan_.flaky[i].failures;
}

void FailingSource::do_read(std::uint64_t offset, std::span<std::byte> out,
                            std::vector<Range>& unreadable) const {
  const std::uint64_t before = reads_.fetch_add(1);
  if (before >= plan_.unplugged_after_reads)
    throw Error(ErrorCode::cannot_read, {}, offset, "the disk is gone",
                "check its cable and power");
  const Range asked{offset, out.size()};
  std::vector<Range> lost = inner_->read(offset, out).unreadable;
  for (std::size_t i = 0; i < plan_.wrong.size(); ++i) {
    const FaultPlan::Wrong& wrong = plan_.wrong[i];
    const Range part = intersect(wrong.range, asked);
    if (part.empty() || wrong_left_[i] == 0) continue;
    --wrong_left_[i];
    inner_->read(wrong.gives + (part.offset - wrong.range.offset),
                 out.subspan(static_cast<std::size_t>(part.offset - offset),
                             static_cast<std::size_t>(part.length)));
  }
  const auto lose = [&](const Range& range) {
    const Range part = intersect(range, asked);
    if (part.empty()) return;
    const auto from = out.begin() + static_cast<std::ptrdiff_t>(part.offset - offset);
    std::fill_n(from, part.length, std::byte{0});
    lost.push_back(part);
  };
  for (const Range& range : plan_.unreadable) lose(range);
  const std::uint64_t sector = plan_.sector_size.value_or(512);
  for (const FaultPlan::Growing& each : plan_.growing) {
    const double share = std::min(
        static_cast<double>(before) / static_cast<double>(std::max<std::uint64_t>(each.reads, 1)),
        1.0);
    const auto half =
        static_cast<std::uint64_t>(share * static_cast<double>(each.range.length) / 2);
    const std::uint64_t middle = each.range.offset + each.range.length / 2;
    const std::uint64_t from = (middle - half) / sector * sector;
    if (half > 0) lose({from, (middle + half + sector - 1) / sector * sector - from});
  }
  if (asked.end() > plan_.ends_early_at)
    lose({plan_.ends_early_at, asked.end() - plan_.ends_early_at});
  for (const FaultPlan::Slow& slow : plan_.slow)
    if (!intersect(slow.range, asked).empty()) wait_(slow.delay);
  for (std::size_t i = 0; i < plan_.flaky.size(); ++i) {
    if (intersect(plan_.flaky[i].range, asked).empty()) continue;
    unsigned left = failures_left_[i].load();
    while (left > 0 && !failures_left_[i].compare_exchange_weak(left, left - 1)) {
    }
    if (left > 0) lose(plan_.flaky[i].range);
  }
  std::sort(lost.begin(), lost.end(),
            [](const Range& a, const Range& b) { return a.offset < b.offset; });
  unreadable.insert(unreadable.end(), lost.begin(), lost.end());
}

}  // namespace lantern
