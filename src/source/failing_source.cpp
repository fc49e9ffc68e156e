#include "source/failing_source.h"

#include <algorithm>

#include "lantern/error.h"
#include "source/given.h"

namespace lantern {

FailingSource::FailingSource(SourcePtr inner, FaultPlan plan, Wait wait)
    : inner_(given(std::move(inner))),
      plan_(std::move(plan)),
      wait_(std::move(wait)),
      failures_left_(std::make_unique<std::atomic<unsigned>[]>(plan_.flaky.size())) {
  for (std::size_t i = 0; i < plan_.flaky.size(); ++i) failures_left_[i] = plan_.flaky[i].failures;
}

void FailingSource::do_read(std::uint64_t offset, std::span<std::byte> out,
                            std::vector<Range>& unreadable) const {
  if (reads_.fetch_add(1) >= plan_.unplugged_after_reads)
    throw Error(ErrorCode::cannot_read, {}, offset, "the disk is gone",
                "check its cable and power");
  const Range asked{offset, out.size()};
  std::vector<Range> lost = inner_->read(offset, out).unreadable;
  for (const FaultPlan::Wrong& wrong : plan_.wrong)
    if (const Range part = intersect(wrong.range, asked); !part.empty())
      inner_->read(wrong.gives + (part.offset - wrong.range.offset),
                   out.subspan(static_cast<std::size_t>(part.offset - offset),
                               static_cast<std::size_t>(part.length)));
  const auto lose = [&](const Range& range) {
    const Range part = intersect(range, asked);
    if (part.empty()) return;
    const auto from = out.begin() + static_cast<std::ptrdiff_t>(part.offset - offset);
    std::fill_n(from, part.length, std::byte{0});
    lost.push_back(part);
  };
  for (const Range& range : plan_.unreadable) lose(range);
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
