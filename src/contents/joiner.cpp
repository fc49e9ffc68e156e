#include "contents/joiner.h"

#include <fmt/format.h>
#include <libdeflate.h>

#include <algorithm>

#include "contents/pictures/jpeg_walk.h"
#include "contents/units.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// Of one try.
constexpr std::uint64_t kMaxWork = 256u << 20;
constexpr std::uint64_t kMaxUnit = 16u << 20;

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
             Range breaks, const Context& context)
      : disk_(disk),
        pieces_(pieces),
        kind_(kind),
        breaks_(breaks),
        unit_(kinds::unit_of(kind.check)),
        context_(context) {}

  Reach reach(std::uint64_t border, std::uint64_t place) const override {
    Reach reached;
    const SourcePtr joined = with_tail(disk_, pieces_, border, place);
    if (!has_unit(*joined, border, reached.work)) return reached;
    const auto got = follow_content(*joined, kind_, kMaxWork, context_);
    if (!got) return reached;
    reached.content = *got;
    reached.work += got->work;
    reached.complete = got->complete && got->length > border;
    reached.breaks = got->breaks;
    reached.breaks_before = got->breaks_before;
    reached.passed = got->complete ? got->length : got->breaks;
    reached.past_end = got->past_end;
    return reached;
  }

 private:
  const SourcePtr& disk_;
  std::vector<FindPiece> pieces_;

  // Whether what was missed where the check broke is there now, and another part behind it.
  bool has_unit(const ByteSource& joined, std::uint64_t border, std::uint64_t& work) const {
    if (kind_.check == "sqlite") return has_pages(joined, border);
    if (unit_ == nullptr) return true;
    kinds::KindReader file(joined, context_, false, kMaxUnit);
    bool fits = true;
    try {
      if (kind_.check == "ebml" && file.starts(breaks_.offset, "\xBF\x84")) return is_summed(file);
      const std::uint64_t end = unit_(file, breaks_.offset);
      if (kind_.check == "mpeg" || kind_.check == "riff") unit_(file, end);
    } catch (const kinds::Break& met) {
      // The last one of a file has none behind it.
      fits = met.at > breaks_.offset && met.structure == StructureState::contradictory &&
             kind_.check == "riff";
    }
    work += file.work();
    return fits;
  }

  // Whether the checksum of a part of a film is right now.
  bool is_summed(kinds::KindReader& file) const {
    std::uint32_t sum = 0;
    const Range part{breaks_.offset + 6,
                     breaks_.length - std::min<std::uint64_t>(6, breaks_.length)};
    file.each(part.offset, part.length,
              [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
    return sum == file.le32(breaks_.offset + 2);
  }

  // Whether the next pages may be pages of a database: each begins with its kind, or with the
  // number of another.
  static bool has_pages(const ByteSource& joined, std::uint64_t border) {
    constexpr std::uint64_t kPages = 4;
    Bytes head(32);
    joined.read(0, head);
    const std::uint64_t said = be16(head, 16), page_bytes = said == 1 ? 65536 : said;
    const std::uint64_t pages = be32(head, 28);
    if (page_bytes < 512) return false;
    std::uint64_t page = (border + page_bytes - 1) / page_bytes;
    for (const std::uint64_t end = std::min(page + kPages, pages); page < end; ++page) {
      Bytes start(4);
      if (joined.read(page * page_bytes, start).length < start.size()) return false;
      const unsigned type = u8(start, 0);
      const bool tree = type == 2 || type == 5 || type == 10 || type == 13;
      if (!tree && be32(start, 0) > pages) return false;
    }
    return true;
  }

  const SignatureKind& kind_;
  Range breaks_;
  kinds::PastUnit unit_;
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

  Reach reach(std::uint64_t border, std::uint64_t place) const override {
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
      reached.complete = held.unchecked_bytes == 0 && scan.goes_on_smoothly(border);
      reached.content.grade = Grade::whole;
      reached.content.length = held.length_bytes;
      reached.content.why = held.why;
      reached.passed = held.length_bytes;
    } catch (const kinds::Break& met) {
      reached.past_end = met.at >= joined->size();
      reached.passed = met.at;
      reached.content.why = fmt::format("{}, at byte {}", met.why, met.at);
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
                                    const SignatureKind& kind, Range breaks,
                                    const Context& context) {
  if (kind.check == "jpeg") {
    auto joiner = std::make_unique<JpegJoiner>(disk, pieces, context);
    if (joiner->can_go_on()) return joiner;
  }
  return std::make_unique<AnewJoiner>(disk, pieces, kind, breaks, context);
}

}  // namespace lantern
