#include "volume/lvm/snapshot.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/bytes.h"
#include "base/checked.h"
#include "lantern/error.h"
#include "source/pass_through.h"

namespace lantern::lvm {
namespace {

constexpr std::uint64_t kMaxChunkBytes = 1ull << 30;
constexpr std::size_t kMaxKept = 16u << 20;  // chunks, 256 MiB of them
constexpr std::size_t kPair = 16;

using Kept = std::vector<std::pair<std::uint64_t, std::uint64_t>>;  // by chunk of the origin

class SnapshotSource final : public ByteSource {
 public:
  SnapshotSource(SourcePtr origin, SourcePtr store, std::uint64_t chunk_bytes, Kept kept)
      : origin_(std::move(origin)),
        store_(std::move(store)),
        chunk_bytes_(chunk_bytes),
        kept_(std::move(kept)) {}

  std::uint64_t size() const override { return origin_->size(); }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    for_each_run({offset, out.size()}, [&](const SourcePtr& from, Range part, std::uint64_t below) {
      const auto target = out.subspan(static_cast<std::size_t>(part.offset - offset),
                                      static_cast<std::size_t>(part.length));
      read_below(*from, below, target, part.offset, unreadable);
      return true;
    });
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    bool going = true;
    for_each_run(range, [&](const SourcePtr& from, Range part, std::uint64_t below) {
      return going = extents_below(from, below, part, visit);
    });
    return going;
  }

 private:
  template <typename Visit>
  void for_each_run(Range range, Visit visit) const {
    for (std::uint64_t at = range.offset; at < range.end();) {
      const std::uint64_t chunk = at / chunk_bytes_;
      const auto next = std::lower_bound(
          kept_.begin(), kept_.end(), chunk,
          [](const auto& one, std::uint64_t wanted) { return one.first < wanted; });
      const bool is_kept = next != kept_.end() && next->first == chunk;
      const std::uint64_t end_chunk = is_kept               ? chunk + 1
                                      : next != kept_.end() ? next->first
                                                            : ~std::uint64_t{0};
      const std::uint64_t length =
          std::min(saturating_mul(end_chunk, chunk_bytes_), range.end()) - at;
      const std::uint64_t below = is_kept ? next->second * chunk_bytes_ + at % chunk_bytes_ : at;
      if (!visit(is_kept ? store_ : origin_, Range{at, length}, below)) return;
      at += length;
    }
  }

  SourcePtr origin_, store_;
  std::uint64_t chunk_bytes_;
  Kept kept_;
};

Kept read_kept(const ByteSource& store, std::uint64_t chunk_bytes, const Context& context) {
  Kept kept;
  const std::uint64_t chunks = store.size() / chunk_bytes;
  const std::uint64_t pairs = chunk_bytes / kPair;
  Bytes area(static_cast<std::size_t>(std::min<std::uint64_t>(chunk_bytes, 1u << 20)));
  for (std::uint64_t at = 1; at < chunks; at += pairs + 1) {
    for (std::uint64_t part = 0; part < chunk_bytes; part += area.size()) {
      context.check_cancelled();
      const ReadResult got = store.read(at * chunk_bytes + part, area);
      if (got.length < area.size() || !got.unreadable.empty())
        context.report(FindingCode::lvm_snapshot, Severity::damage,
                       {at * chunk_bytes + part, area.size()},
                       "a part of the snapshot's list of kept chunks cannot be read",
                       "what it would name is read from the origin as that is now");
      for (std::size_t i = 0; i + kPair <= area.size(); i += kPair) {
        const std::uint64_t origin_chunk = le64(area, i), own = le64(area, i + 8);
        if (own == 0) return kept;
        if (own >= chunks) {
          context.report(FindingCode::lvm_snapshot, Severity::damage,
                         {at * chunk_bytes + part + i, kPair},
                         fmt::format("a kept chunk of the snapshot points to chunk {}, past its "
                                     "end",
                                     own),
                         "the list is used up to there");
          return kept;
        }
        if (kept.size() >= kMaxKept) {
          context.report(FindingCode::lvm_snapshot, Severity::damage, {at * chunk_bytes, 0},
                         fmt::format("the snapshot keeps more than {} chunks", kMaxKept),
                         "those behind are not looked at");
          return kept;
        }
        kept.emplace_back(origin_chunk, own);
      }
    }
  }
  return kept;
}

}  // namespace

SourcePtr open_snapshot(const SourcePtr& origin, const SourcePtr& store, const Context& context) {
  Bytes head(kSector);
  store->read(0, head);
  const std::uint64_t chunk_bytes = std::uint64_t{le32(head, 12)} * kSector;
  if (!has_text(head, 0, "SnAp") || le32(head, 8) != 1 || chunk_bytes == 0 ||
      chunk_bytes > kMaxChunkBytes || !is_power_of_two(chunk_bytes))
    throw Error(ErrorCode::cannot_read, {}, 0, "the snapshot has no store of kept chunks",
                "read its origin");
  if (le32(head, 4) == 0)
    context.report(FindingCode::lvm_snapshot, Severity::damage, {0, kSector},
                   "the snapshot is marked invalid: it was full",
                   "what was changed after that shows as it is in the origin");
  Kept kept = read_kept(*store, chunk_bytes, context);
  std::stable_sort(kept.begin(), kept.end(),
                   [](const auto& a, const auto& b) { return a.first < b.first; });
  return std::make_shared<SnapshotSource>(origin, store, chunk_bytes, std::move(kept));
}

}  // namespace lantern::lvm
