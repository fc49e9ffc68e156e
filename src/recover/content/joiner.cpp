#include "recover/content/joiner.h"

#include <algorithm>

#include "lantern/sources.h"
#include "recover/kinds/pictures/jpeg_walk.h"

namespace lantern {
namespace {

// Of one try.
constexpr std::uint64_t kMaxWork = 64u << 20;

SourcePtr with_tail(const SourcePtr& disk, std::vector<FindPiece> pieces, std::uint64_t border,
                    std::uint64_t place) {
  pieces = first_of(pieces, border);
  pieces.push_back({place, disk->size() - place});
  return content_of(disk, pieces);
}

// Checks it from its first byte.
class AnewJoiner final : public Joiner {
 public:
  AnewJoiner(const SourcePtr& disk, const std::vector<FindPiece>& pieces, const SignatureKind& kind,
             const Context& context)
      : disk_(disk), pieces_(pieces), kind_(kind), context_(context) {}

  Reach reach(std::uint64_t border, std::uint64_t place) override {
    Reach reached;
    const auto got =
        follow_content(*with_tail(disk_, pieces_, border, place), kind_, kMaxWork, context_);
    if (!got) return reached;
    reached.content = *got;
    reached.work = got->work;
    reached.whole = got->grade == Grade::whole && got->length > border;
    reached.breaks = got->breaks;
    reached.breaks_before = got->breaks_before;
    reached.past_end = got->past_end;
    return reached;
  }

 private:
  const SourcePtr& disk_;
  std::vector<FindPiece> pieces_;
  const SignatureKind& kind_;
  const Context& context_;
};

// Goes on from a place in the scan before the border.
class JpegJoiner final : public Joiner {
 public:
  JpegJoiner(const SourcePtr& disk, const std::vector<FindPiece>& pieces, const Context& context)
      : disk_(disk), pieces_(pieces), context_(context) {
    first_ = content_of(disk, pieces_);
    reader_ = std::make_unique<kinds::KindReader>(*first_, context, true);
    scan_ = std::make_unique<kinds::JpegScan>(*reader_);
    try {
      kinds::walk_jpeg(*reader_, *scan_, 2);
    } catch (const kinds::Break&) {
      // Where its scan can be gone on with is known.
    }
  }

  bool can_go_on() const { return !scan_->places().empty(); }

  Reach reach(std::uint64_t border, std::uint64_t place) override {
    Reach reached;
    // A byte behind the place may have been looked at.
    const auto& places = scan_->places();
    const auto from = std::find_if(places.rbegin(), places.rend(),
                                   [&](const auto& each) { return each.at + 2 <= border; });
    if (from == places.rend()) return reached;
    const SourcePtr joined = with_tail(disk_, pieces_, border, place);
    kinds::KindReader file(*joined, context_, true, kMaxWork);
    kinds::JpegScan scan = *scan_;
    try {
      const std::uint64_t at = scan.walk_on(file, *from);
      const kinds::Held held = kinds::walk_jpeg(file, scan, at);
      reached.whole = held.unchecked_bytes == 0 && scan.goes_on_smoothly(border);
      reached.content.grade = Grade::whole;
      reached.content.length = held.length_bytes;
      reached.content.why = held.why;
    } catch (const kinds::Break& met) {
      reached.past_end = met.structure == StructureState::cut;
      if (scan.goes_on_smoothly(border)) reached.breaks = reached.breaks_before = met.at;
    }
    reached.work = file.work();
    return reached;
  }

 private:
  const SourcePtr& disk_;
  std::vector<FindPiece> pieces_;
  const Context& context_;
  SourcePtr first_;
  std::unique_ptr<kinds::KindReader> reader_;
  std::unique_ptr<kinds::JpegScan> scan_;
};

}  // namespace

SourcePtr content_of(const SourcePtr& disk, const std::vector<FindPiece>& pieces) {
  std::vector<Piece> parts;
  parts.reserve(pieces.size());
  for (const FindPiece& piece : pieces)
    parts.push_back({ExtentKind::direct, piece.length, disk, piece.disk_offset});
  return make_joined(std::move(parts));
}

std::vector<FindPiece> first_of(const std::vector<FindPiece>& pieces, std::uint64_t length) {
  std::vector<FindPiece> first;
  for (const FindPiece& piece : pieces) {
    if (length == 0) break;
    first.push_back({piece.disk_offset, std::min(piece.length, length)});
    length -= first.back().length;
  }
  return first;
}

std::unique_ptr<Joiner> make_joiner(const SourcePtr& disk, const std::vector<FindPiece>& pieces,
                                    const SignatureKind& kind, const Context& context) {
  if (kind.check == "jpeg") {
    auto joiner = std::make_unique<JpegJoiner>(disk, pieces, context);
    if (joiner->can_go_on()) return joiner;
  }
  return std::make_unique<AnewJoiner>(disk, pieces, kind, context);
}

}  // namespace lantern
