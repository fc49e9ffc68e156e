#include "recover/sweep/sweep.h"

#include <algorithm>
#include <condition_variable>
#include <exception>
#include <map>
#include <mutex>
#include <optional>
#include <thread>

namespace lantern {
namespace {

// The most that stays in the second-level cache while it is looked at.
constexpr std::size_t kReadAtOnce = 256u << 10;
constexpr std::size_t kAtOnce = 8;       // pieces that one thread takes
constexpr std::uint64_t kMaxAhead = 16;  // times that, which were looked at and not joined

// The stretches of a range that are stored, cut at borders that are the same wherever it begins.
class Pieces {
 public:
  Pieces(const ByteSource& disk, Range range)
      : disk_(disk), range_(range), at_(range.offset), run_end_(range.offset) {}

  struct Piece {
    Range owned;
    std::size_t behind = 0;  // bytes
  };

  std::optional<Piece> next() {
    if (at_ >= run_end_ && !next_run()) return std::nullopt;
    const std::uint64_t border = std::min((at_ / kReadAtOnce + 1) * kReadAtOnce, run_end_);
    Piece piece{{at_, border - at_},
                static_cast<std::size_t>(std::min<std::uint64_t>(
                    kLookAhead, disk_.size() - std::min(border, disk_.size())))};
    at_ = border;
    return piece;
  }

 private:
  bool next_run() {
    bool found = false;
    if (at_ >= range_.end()) return false;
    disk_.extents({at_, range_.end() - at_}, [&](const Extent& extent) {
      const bool stored = extent.kind != ExtentKind::zero &&
                          extent.kind != ExtentKind::unallocated &&
                          extent.kind != ExtentKind::unreadable;
      // Whole sectors: a hole may end within one.
      const std::uint64_t end = (extent.range.end() + kSector - 1) / kSector * kSector;
      if (!stored || end <= at_) return true;
      if (found && extent.range.offset > run_end_) return false;
      if (!found) at_ = std::max(at_, extent.range.offset / kSector * kSector);
      run_end_ = end;
      found = true;
      return true;
    });
    if (!found) at_ = range_.end();
    return found;
  }

  const ByteSource& disk_;
  Range range_;
  std::uint64_t at_, run_end_;
};

unsigned threads_of(const Context& context) {
  return std::max(1u, context.threads != 0 ? context.threads : std::thread::hardware_concurrency());
}

class Pass {
 public:
  Pass(const ByteSource& disk, Range range, std::span<Finder* const> finders,
       const Context& context)
      : disk_(disk),
        range_(range),
        finders_(finders),
        context_(context),
        threads_(threads_of(context)),
        pieces_(disk, range) {}

  Swept run() {
    std::vector<std::thread> workers;
    for (unsigned i = 0; i < threads_; ++i) workers.emplace_back([this] { work(); });
    Swept swept;
    std::exception_ptr failed;
    try {
      swept = join_all();
    } catch (...) {
      failed = std::current_exception();
    }
    {
      const std::lock_guard lock(mutex_);
      stopped_ = true;
    }
    changed_.notify_all();
    for (std::thread& worker : workers) worker.join();
    if (failed || failed_) std::rethrow_exception(failed ? failed : failed_);
    return swept;
  }

 private:
  struct Looked {
    std::uint64_t bytes = 0, end = 0;  // of the disk
    std::vector<std::unique_ptr<Finder>> finders;
  };

  bool is_cancelled() const {
    return context_.cancel && context_.cancel->load(std::memory_order_relaxed);
  }

  // On each of the threads.
  void work() {
    Bytes buffer(kReadAtOnce + kLookAhead);
    try {
      while (const auto numbered = take()) {
        const auto& [number, pieces] = *numbered;
        put(number, look(pieces, buffer));
      }
    } catch (...) {
      const std::lock_guard lock(mutex_);
      if (!failed_) failed_ = std::current_exception();
      stopped_ = true;
    }
    {
      const std::lock_guard lock(mutex_);
      ++ended_;
    }
    changed_.notify_all();
  }

  std::optional<std::pair<std::uint64_t, std::vector<Pieces::Piece>>> take() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return stopped_ || given_ < joined_ + kMaxAhead; });
    if (stopped_ || is_cancelled()) return std::nullopt;
    std::vector<Pieces::Piece> taken;
    while (taken.size() < kAtOnce) {
      const auto piece = pieces_.next();
      if (!piece) break;
      taken.push_back(*piece);
    }
    if (taken.empty()) return std::nullopt;
    return std::pair(given_++, std::move(taken));
  }

  Looked look(const std::vector<Pieces::Piece>& pieces, Bytes& buffer) const {
    Looked looked;
    for (const Finder* const finder : finders_) looked.finders.push_back(finder->fresh());
    for (const Pieces::Piece& piece : pieces) {
      const std::size_t length = static_cast<std::size_t>(piece.owned.length) + piece.behind;
      const ReadResult got = disk_.read(piece.owned.offset, std::span(buffer).first(length));
      const SweptPiece shown{piece.owned.offset, ByteView(buffer).first(got.length),
                             std::min(got.length, static_cast<std::size_t>(piece.owned.length)),
                             got.unreadable};
      for (const auto& finder : looked.finders) finder->look(shown);
      looked.bytes += piece.owned.length;
      looked.end = piece.owned.end();
    }
    return looked;
  }

  void put(std::uint64_t number, Looked looked) {
    {
      const std::lock_guard lock(mutex_);
      looked_.emplace(number, std::move(looked));
    }
    changed_.notify_all();
  }

  // In the order of the disk, until there is no more.
  Swept join_all() {
    Swept swept;
    swept.stopped_at = range_.offset;
    for (;;) {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] {
        return ended_ == threads_ || (!looked_.empty() && looked_.begin()->first == joined_);
      });
      if (failed_) return swept;
      if (looked_.empty() || looked_.begin()->first != joined_) break;
      const Looked looked = std::move(looked_.begin()->second);
      looked_.erase(looked_.begin());
      ++joined_;
      lock.unlock();
      changed_.notify_all();
      for (std::size_t i = 0; i < finders_.size(); ++i) finders_[i]->join(*looked.finders[i]);
      swept.read_bytes += looked.bytes;
      swept.stopped_at = std::min(looked.end, range_.end());
      if (context_.progress) context_.progress->update(swept.stopped_at, range_.end(), {});
    }
    if (!is_cancelled()) swept.stopped_at = range_.end();
    return swept;
  }

  const ByteSource& disk_;
  Range range_;
  std::span<Finder* const> finders_;
  const Context& context_;
  unsigned threads_;
  std::mutex mutex_;  // of what follows
  std::condition_variable changed_;
  Pieces pieces_;
  std::uint64_t given_ = 0, joined_ = 0;  // times that pieces were taken
  std::map<std::uint64_t, Looked> looked_;
  unsigned ended_ = 0;  // threads
  bool stopped_ = false;
  std::exception_ptr failed_;
};

}  // namespace

Swept sweep(const ByteSource& disk, Range range, std::span<Finder* const> finders,
            const Context& context) {
  return Pass(disk, range, finders, context).run();
}

}  // namespace lantern
