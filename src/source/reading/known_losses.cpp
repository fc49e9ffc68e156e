#include "source/reading/known_losses.h"

#include <fmt/format.h>

#include <algorithm>

#include "lantern/error.h"
#include "lantern/text.h"
#include "source/reading/status.h"
#include "source/writable_source.h"

namespace lantern {
namespace {

constexpr std::uint64_t kPiece = 64u << 10;
// Bytes looked at for what was written since. In a copy with holes that is all of it; where zeros
// are stored, the rest is taken as lost.
constexpr std::uint64_t kMaxLooked = 256u << 20;

class CopyWithLosses final : public WritableSource {
 public:
  CopyWithLosses(SourcePtr copy, std::vector<Range> lost)
      : copy_(std::move(copy)), lost_(std::move(lost)) {}

  std::uint64_t size() const override { return copy_->size(); }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return copy_->logical_sector_size();
  }
  std::optional<std::uint32_t> physical_sector_size() const override {
    return copy_->physical_sector_size();
  }

  Translation translate(std::uint64_t offset, ByteView bytes) const override {
    return {{{copy_, offset, Bytes(bytes.begin(), bytes.end()), false}}, bytes.size()};
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    const ReadResult got = copy_->read(offset, out);
    unreadable.insert(unreadable.end(), got.unreadable.begin(), got.unreadable.end());
    for_each_lost({offset, out.size()}, [&](const Range& part) { unreadable.push_back(part); });
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    std::uint64_t at = range.offset;
    bool going = true;
    const auto pass = [&](std::uint64_t to) {
      if (to > at)
        copy_->extents({at, to - at}, [&](const Extent& inner) {
          return going = visit(inner.seen_through(copy_, inner.range.offset));
        });
    };
    for_each_lost(range, [&](const Range& part) {
      if (!going) return;
      pass(part.offset);
      if (going) going = visit({ExtentKind::unreadable, part, {}, {}});
      at = part.end();
    });
    if (going) pass(range.end());
    return going;
  }

 private:
  template <typename Use>
  void for_each_lost(Range range, const Use& use) const {
    auto lost = std::partition_point(lost_.begin(), lost_.end(),
                                     [&](const Range& each) { return each.end() <= range.offset; });
    for (; lost != lost_.end() && lost->offset < range.end(); ++lost) use(intersect(*lost, range));
  }

  SourcePtr copy_;
  std::vector<Range> lost_;  // sorted, apart
};

void add_to(std::vector<Range>& ranges, Range range) {
  if (!ranges.empty() && ranges.back().end() == range.offset)
    ranges.back().length += range.length;
  else
    ranges.push_back(range);
}

// Sectors of the range that are zeros still.
void add_zero_sectors(const ByteSource& copy, Range range, std::uint64_t& looked,
                      const Context& context, std::vector<Range>& lost) {
  Bytes piece;
  for (std::uint64_t at = range.offset; at < range.end(); at += kPiece) {
    context.check_cancelled();
    if (looked >= kMaxLooked) return add_to(lost, {at, range.end() - at});
    const Range part{at, std::min(kPiece, range.end() - at)};
    if (known_zero(copy, part)) {
      add_to(lost, part);
      continue;
    }
    looked += part.length;
    piece.resize(static_cast<std::size_t>(part.length));
    copy.read(at, piece);
    for (std::size_t from = 0; from < piece.size(); from += kSector) {
      const std::size_t length = std::min<std::size_t>(kSector, piece.size() - from);
      if (all_zero(ByteView(piece).subspan(from, length))) add_to(lost, {at + from, length});
    }
  }
}

std::string status_path(const std::string& path) {
  constexpr std::string_view kUnfinished = ".part";
  const bool unfinished = path.ends_with(kUnfinished);
  return path.substr(0, path.size() - (unfinished ? kUnfinished.size() : 0)) + ".reading";
}

}  // namespace

SourcePtr with_known_losses(SourcePtr copy, const std::string& path, const Context& context) {
  std::optional<ReadingStatus> status;
  try {
    status = read_reading_status(status_path(path));
  } catch (const Error& error) {
    context.report(FindingCode::source_unreadable, Severity::warning, {}, error.line(),
                   "which part of the disk was read is not known: its zeros may be lost content");
    return copy;
  }
  if (!status || status->map.size() != copy->size()) return copy;
  std::vector<Range> lost;
  std::uint64_t looked = 0;
  for (const ReadMap::Run& run : status->map.runs()) {
    context.check_cancelled();
    if (run.state == ReadState::good || run.state == ReadState::suspect) continue;
    if (known_zero(*copy, run.range))
      add_to(lost, run.range);
    else
      add_zero_sectors(*copy, run.range, looked, context, lost);
  }
  if (lost.empty()) return copy;
  std::uint64_t bytes = 0;
  for (const Range& range : lost) bytes += range.length;
  context.report(
      FindingCode::source_unreadable, Severity::damage, lost.front(),
      fmt::format("a copy of {}, of which {} in {} were not read", for_terminal(status->name),
                  human_size(bytes), counted(lost.size(), "place")),
      "treated as unreadable");
  return std::make_shared<CopyWithLosses>(std::move(copy), std::move(lost));
}

}  // namespace lantern
