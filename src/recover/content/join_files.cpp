#include "recover/content/join_files.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <span>

#include "base/range_set.h"
#include "lantern/text.h"
#include "recover/content/find_digest.h"
#include "recover/content/next_piece.h"

namespace lantern {
namespace {

constexpr std::uint64_t kBlock = 4096;
constexpr std::size_t kMaxPieces = 64;
// What trying may cost (KindReader::spend): for each file, and for all of a disk so much and some
// for each of its bytes.
constexpr std::uint64_t kMaxWorkOfFile = 512u << 20;
constexpr std::uint64_t kFirstWork = std::uint64_t{32} << 30;
constexpr std::uint64_t kWorkPerByte = 64;
constexpr std::uint64_t kWindow = 256u << 20;  // bytes of the disk, to each side of a piece

// How far one looks for the next piece, and how many blocks before the break it may have begun.
struct Effort {
  std::uint64_t ahead = 0, behind = 0;  // bytes of the disk that no file has
  std::uint64_t borders = 0;
};
constexpr std::array<Effort, 3> kEfforts = {
    {{4u << 20, 0, 4}, {64u << 20, 16u << 20, 4}, {2u << 20, 0, 48}}};
constexpr std::array<Effort, 2> kEffortsBySector = {
    {{4u << 20, 0, 4}, {512u << 10, 512u << 10, 16}}};

// Whether a piece of another file that takes a place in it would be noticed: by checksums over it,
// or codes that would not come out even.
bool proves_joins(std::string_view check) {
  constexpr std::array<std::string_view, 12> kProving = {
      "jpeg", "gif", "png", "zip", "gzip", "bzip2", "xz", "ogg", "flac", "pdf", "tiff", "boxes"};
  return std::find(kProving.begin(), kProving.end(), check) != kProving.end();
}

class FileJoin {
 public:
  FileJoin(const SourcePtr& disk, Catalog& catalog, const Signatures& signatures,
           const SweepOptions& options, const Context& context)
      : disk_(disk),
        catalog_(catalog),
        signatures_(signatures),
        options_(options),
        context_(context),
        writer_(catalog),
        work_left_(kFirstWork + kWorkPerByte * std::min(disk->size(), ~std::uint64_t{0} / 128)) {}

  void run() {
    const std::uint64_t from = catalog_.number_fact("joined_to");
    std::vector<CatalogFind> cut;
    each_find(catalog_, fmt::format("WHERE breaks > 0 AND grade <> 'whole' AND offset >= {}", from),
              [&](CatalogFind find) {
                cut.push_back(std::move(find));
                return cut.size() < kMaxTried;
              });
    std::uint64_t left_out = cut.size() == kMaxTried ? 1 : 0, done = 0, files = 0;
    for (CatalogFind& find : cut) {
      context_.check_cancelled();
      // Of texts any goes on with any other.
      const SignatureKind* kind = signatures_.by_name(find.kind);
      if (kind != nullptr &&
          (kind->check.empty() || kind->check == "text" || kind->check == "mail"))
        kind = nullptr;
      if (work_left_ == 0) ++left_out;
      if (kind == nullptr || work_left_ == 0 || find.offset >= disk_->size() || is_taken(find))
        continue;
      catalog_.begin();
      if (join(find, *kind)) ++files;
      catalog_.set_fact("joined_to", std::to_string(find.offset + 1));
      catalog_.commit();
      if (options_.on_joining) options_.on_joining(++done, cut.size(), files);
    }
    if (left_out > 0)
      context_.report(FindingCode::sweep_capped, Severity::note, {},
                      "not all files that are cut were tried with other pieces of the disk",
                      "sweep a part of the disk by itself with --range");
  }

 private:
  static constexpr std::size_t kMaxTried = 100'000;

  // Whether a file that was joined has its first byte by now.
  bool is_taken(const CatalogFind& find) {
    Statement rows = catalog_.database().prepare(
        "SELECT 1 FROM find_piece WHERE disk_offset <= ?1 AND disk_offset + length > ?1 AND find "
        "<> ?1 LIMIT 1");
    return rows.bind(1, find.offset).step();
  }

  // What files have whose pieces are certain, and what is zero, around a place of the disk: no
  // piece is looked for there.
  const RangeSet& taken_around(std::uint64_t place) {
    if (place >= known_.offset + kWindow && place + kWindow <= known_.end()) return taken_;
    const std::uint64_t from = place - std::min(place, 2 * kWindow);
    known_ = {from, 4 * kWindow};
    if (from == 0) known_ = {0, 4 * kWindow};
    taken_ = {};
    Statement rows = catalog_.database().prepare(
        "SELECT * FROM (SELECT offset, length FROM find WHERE grade = 'whole' AND pieces = 1 AND "
        "offset < ?2 AND offset >= ?1 UNION ALL SELECT * FROM (SELECT offset, length FROM find "
        "WHERE grade = 'whole' AND pieces = 1 AND offset < ?1 ORDER BY offset DESC LIMIT 16) UNION "
        "ALL SELECT p.disk_offset, p.length FROM find_piece p JOIN find f ON f.offset = p.find "
        "WHERE f.grade = 'whole' AND p.disk_offset < ?2 AND p.disk_offset >= ?1 UNION ALL SELECT "
        "offset, length FROM block WHERE kind = 'zero' AND offset < ?2 AND offset + length > ?1 "
        "UNION ALL SELECT x.disk_offset, x.length FROM extent x JOIN entry e ON e.volume = "
        "x.volume AND e.place = x.place WHERE x.disk_offset < ?2 AND x.disk_offset >= ?1 AND "
        "e.state = 'active' AND (e.intact IS NULL OR e.intact = 1))");
    rows.bind(1, known_.offset).bind(2, known_.end());
    while (rows.step()) {
      context_.check_cancelled();
      taken_.add({rows.number(0), rows.number(1)});
    }
    taken_.settle();
    return taken_;
  }

  // Places where a piece may begin, the nearest first.
  std::vector<std::uint64_t> places(std::uint64_t from, const Effort& effort, std::uint64_t unit) {
    std::vector<std::uint64_t> ahead, behind;
    const std::uint64_t first = (from + unit - 1) / unit * unit;
    const auto collect = [&](Range range, std::uint64_t most, std::vector<std::uint64_t>& into) {
      taken_around(from).parts(range, [&](Range part, bool is_taken) {
        if (is_taken) return;
        const std::uint64_t begin = (part.offset + unit - 1) / unit * unit;
        for (std::uint64_t at = begin; at < part.end() && into.size() * unit < most; at += unit)
          into.push_back(at);
      });
    };
    const Range all = catalog_.facts().range;
    const std::uint64_t end = std::min(all.end(), disk_->size());
    if (first < end) collect({first, std::min(end - first, kWindow)}, effort.ahead, ahead);
    if (effort.behind > 0) {
      const std::uint64_t start = std::max(all.offset, first - std::min(first, kWindow));
      collect({start, std::min(first, end) - std::min(start, std::min(first, end))},
              ~std::uint64_t{0}, behind);
      std::reverse(behind.begin(), behind.end());
      if (behind.size() * unit > effort.behind)
        behind.resize(static_cast<std::size_t>(effort.behind / unit));
    }
    ahead.insert(ahead.end(), behind.begin(), behind.end());
    return ahead;
  }

  // True: it is whole now. What more of it was found stays in any case.
  bool join(CatalogFind& find, const SignatureKind& kind) {
    const std::uint64_t may_do = std::min(kMaxWorkOfFile, work_left_);
    work_of_file_ = may_do;
    const bool whole = join_within(find, kind);
    work_left_ -= may_do - work_of_file_;
    return whole;
  }

  bool join_within(CatalogFind& find, const SignatureKind& kind) {
    std::vector<FindPiece> pieces = {{find.offset, disk_->size() - find.offset}};
    const auto first = follow_content(*content_of(disk_, pieces), kind, work_of_file_, context_);
    if (!first || first->breaks_before == 0) return false;
    Where where{first->breaks, first->breaks_before};
    std::string evidence;
    while (pieces.size() < kMaxPieces) {
      // Files begin at blocks or at sectors, and so do their pieces.
      auto step = find.offset % kBlock == 0 ? next_piece(pieces, where, kind, kBlock, kEfforts)
                                            : std::nullopt;
      if (!step) step = next_piece(pieces, where, kind, kSector, kEffortsBySector);
      if (!step) break;
      evidence += fmt::format("{}from its byte {} on it lies at byte {} of the disk",
                              evidence.empty() ? "" : ", ", step->border, step->place);
      pieces = first_of(pieces, step->border);
      pieces.push_back({step->place, disk_->size() - step->place});
      if (!step->reach.complete) {
        where = {step->reach.breaks, step->reach.breaks_before};
        find.evidence = step->reach.content.why;
        continue;
      }
      find.pieces = first_of(pieces, step->reach.content.length);
      const bool proven = step->certain && proves_joins(kind.check);
      find.grade = proven ? step->reach.content.grade : Grade::doubtful;
      find.verified = proven && step->reach.content.verified;
      find.breaks = 0;
      find.evidence = fmt::format("in {} pieces: {}; joined so, {}{}", find.pieces.size(), evidence,
                                  step->reach.content.why,
                                  !step->certain ? "; it may go on there a little earlier or later"
                                  : !proven      ? "; no checksum proves the join"
                                                 : "");
      write(find);
      return true;
    }
    if (pieces.size() > 1) {
      find.pieces = first_of(pieces, where.breaks);
      find.breaks = where.breaks;
      find.evidence =
          fmt::format("in {} pieces: {}; {}", find.pieces.size(), evidence, find.evidence);
      write(find);
    }
    return false;
  }

  void write(const CatalogFind& find) {
    writer_.remove(find.offset);
    writer_.add(find, digest_of(*content_of(disk_, find.pieces)));
    if (find.grade != Grade::whole) return;
    // What began within its pieces was a part of it.
    for (const FindPiece& piece : find.pieces) {
      taken_.add({piece.disk_offset, piece.length});
      catalog_.database()
          .prepare("DELETE FROM find WHERE offset > ? AND offset < ? AND offset <> ?")
          .bind(1, piece.disk_offset)
          .bind(2, piece.disk_offset + piece.length)
          .bind(3, find.offset)
          .run();
    }
    taken_.settle();
  }

  // Where the content breaks: as of FollowedContent.
  struct Where {
    std::uint64_t breaks = 0, before = 0;
  };
  std::optional<NextPieceFound> next_piece(const std::vector<FindPiece>& pieces, Where where,
                                           const SignatureKind& kind, std::uint64_t unit,
                                           std::span<const Effort> efforts) {
    NextPiece next(disk_, pieces, {where.breaks, where.before - where.breaks}, kind, unit,
                   work_of_file_, context_);
    const std::uint64_t from = next.break_place();
    // Where its own end says that it lies.
    if (has_tail(kind.check)) {
      const Range around =
          intersect({from - std::min(from, kWindow), 2 * kWindow}, {0, disk_->size()});
      auto found = next.by_tails(around, taken_around(from));
      // Without their ends, which would have told, they cannot be made whole.
      if (found || kind.check != "boxes") return found;
    }
    for (const Effort& effort : efforts)
      if (auto found = next.by_places(places(from, effort, unit), effort.borders)) return found;
    return std::nullopt;
  }

  const SourcePtr& disk_;
  Catalog& catalog_;
  const Signatures& signatures_;
  const SweepOptions& options_;
  const Context& context_;
  FindWriter writer_;
  RangeSet taken_;
  Range known_;  // of the disk: what `taken_` is known for
  std::uint64_t work_left_, work_of_file_ = 0;
};

}  // namespace

void join_files(const SourcePtr& disk, Catalog& catalog, const Signatures& signatures,
                const SweepOptions& options, const Context& context) {
  try {
    FileJoin(disk, catalog, signatures, options, context).run();
  } catch (...) {
    catalog.rollback();
    throw;
  }
}

}  // namespace lantern
