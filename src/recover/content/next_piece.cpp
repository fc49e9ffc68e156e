#include "recover/content/next_piece.h"

#include <algorithm>
#include <future>
#include <thread>

namespace lantern {
namespace {

constexpr std::size_t kMaxBorders = 4096;
constexpr std::size_t kTriesAtOnce = 64;    // tries
constexpr std::uint64_t kCostOfTry = 4096;  // beside what is read for it
constexpr std::uint64_t kMinGain = 4;       // units: what goes on so far does so with reason

}  // namespace

NextPiece::NextPiece(const SourcePtr& disk, std::vector<FindPiece> pieces, Range breaks,
                     const SignatureKind& kind, std::uint64_t unit, std::uint64_t& work,
                     const Context& context)
    : disk_(disk),
      pieces_(std::move(pieces)),
      breaks_(breaks),
      kind_(kind),
      unit_(unit),
      work_(work),
      context_(context),
      joiner_(make_joiner(disk, pieces_, kind, breaks, context)) {
  for (std::size_t i = 0; i + 1 < pieces_.size(); ++i) begin_ += pieces_[i].length;
}

std::uint64_t NextPiece::break_place() const {
  return pieces_.back().disk_offset + breaks_.offset - std::min(breaks_.offset, begin_);
}

// The last ones first: what is wrong was noticed soon after.
std::vector<std::uint64_t> NextPiece::borders(std::uint64_t more) const {
  const std::uint64_t on_disk = pieces_.back().disk_offset;
  std::vector<std::uint64_t> all;
  // A header that is cut by the border makes no sense from its first byte on.
  std::uint64_t at = (on_disk + (breaks_.end() - begin_)) / unit_ * unit_ + unit_;
  for (; at > on_disk && all.size() < kMaxBorders && (at > break_place() || more > 0);
       at -= unit_) {
    if (at <= break_place()) --more;
    all.push_back(begin_ + at - on_disk);
  }
  return all;
}

bool NextPiece::take(const Try& one, Joiner::Reach reach) {
  const bool complete = reach.complete;
  noticed_ = reach.breaks_before;
  const bool further =
      !reach.past_end && reach.breaks > std::max(breaks_.offset, one.border) + kMinGain * unit_;
  if (complete || (further && (!best_ || reach.breaks > best_->reach.breaks)))
    best_ = NextPieceFound{one.border, one.place, std::move(reach)};
  return complete;
}

bool NextPiece::attempt(std::span<const Try> tries) {
  const unsigned threads =
      std::max(1u, context_.threads != 0 ? context_.threads : std::thread::hardware_concurrency());
  std::vector<Joiner::Reach> reached(tries.size());
  std::vector<std::future<void>> parts;
  for (unsigned t = 0; t < std::min<std::size_t>(threads, tries.size()); ++t)
    parts.push_back(std::async(std::launch::async, [&, t] {
      for (std::size_t i = t; i < tries.size(); i += threads) {
        context_.check_cancelled();
        reached[i] = joiner_->reach(tries[i].border, tries[i].place);
      }
    }));
  for (auto& part : parts) part.get();
  for (std::size_t i = 0; i < tries.size(); ++i) {
    work_ -= std::min(work_, reached[i].work + kCostOfTry);
    if (take(tries[i], std::move(reached[i]))) {
      check_neighbours();
      return true;
    }
  }
  return false;
}

// Whether a border a little further makes another content that is complete as well.
void NextPiece::check_neighbours() {
  for (const std::uint64_t other : {best_->border - unit_, best_->border + unit_}) {
    const std::uint64_t place = best_->place + (other - best_->border);
    if (best_->certain && other > begin_ && place < disk_->size() && is_unlike(other))
      best_->certain = !joiner_->reach(other, place).complete;
  }
}

bool NextPiece::is_unlike(std::uint64_t other) const {
  const std::uint64_t from = std::min(best_->border, other);
  Bytes here(static_cast<std::size_t>(unit_)), there(here.size());
  content_of(disk_, pieces_)->read(from, here);
  disk_->read(best_->place + (from - best_->border), there);
  return here != there;
}

std::optional<NextPieceFound> NextPiece::by_tails(Range range, const RangeSet& taken) {
  const TailOf tail{kind_.check, pieces_.front().disk_offset, breaks_.offset, unit_};
  const std::vector<std::uint64_t> all = borders(kMaxBorders);
  for (const std::uint64_t shift : tail_shifts(*disk_, tail, range, taken, context_)) {
    std::uint64_t last = ~std::uint64_t{0};
    for (const std::uint64_t border : all) {
      const Try one{border, border + shift};
      if (work_ == 0) break;
      if (one.place % unit_ != 0 || border > last || one.place >= disk_->size()) continue;
      if (attempt({&one, 1})) return best_;
      // What was wrong before the border begins no later than that.
      if (noticed_ > 0 && noticed_ < border) last = noticed_ + unit_;
    }
  }
  // Of the strips of a TIFF each goes on for a while with anything.
  return kind_.check == "tiff" ? std::nullopt : best_;
}

std::optional<NextPieceFound> NextPiece::by_places(std::span<const std::uint64_t> places,
                                                   std::uint64_t count) {
  const std::vector<std::uint64_t> all = borders(count);
  const std::uint64_t on_disk = pieces_.back().disk_offset;
  std::vector<Try> tries;
  for (const std::uint64_t place : places) {
    for (const std::uint64_t border : all)
      if (place < disk_->size() && place != on_disk + (border - begin_))
        tries.push_back({border, place});
    if (tries.size() < kTriesAtOnce) continue;
    if (work_ == 0 || attempt(tries)) return best_;
    tries.clear();
  }
  attempt(tries);
  return best_;
}

}  // namespace lantern
