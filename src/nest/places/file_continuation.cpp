#include "nest/places/file_continuation.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <future>
#include <iterator>
#include <numeric>
#include <set>
#include <thread>

#include "base/kinds/content_kind.h"
#include "container/expectations.h"
#include "contents/follow.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kWorkPerByte = 8;  // of the loose pieces
constexpr std::uint64_t kMaxWork = 8ull << 30;
constexpr std::uint64_t kMaxOfOne = 64ull << 20;
constexpr std::uint64_t kCostOfTry = 4096;
// So many pieces must be seen not to fit, before one that does says anything; and of a part so
// short that any would do, the checksums at its end are asked for.
constexpr std::size_t kMinFailing = 16;
constexpr std::size_t kControls = 32, kNear = 16;
constexpr std::uint64_t kShort = 4096;

// Kinds whose checks any text passes, or that check nothing inside.
bool tells_pieces_apart(const SignatureKind& kind) {
  return !kind.check.empty() && kind.check != "text" && kind.check != "mail" &&
         kind.check != "rtf" && kind.check != "bmp";
}

// Kinds whose checks see near a wrong byte that it is wrong: not those read from tables at their
// end, nor those with one checksum of much.
bool is_checked_all_along(const SignatureKind& kind) {
  constexpr std::array<std::string_view, 11> kChecked = {
      "jpeg", "png", "gif", "gzip", "zip", "flac", "ogg", "mpeg", "ebml", "tar", "sqlite"};
  return std::find(kChecked.begin(), kChecked.end(), kind.check) != kChecked.end();
}

}  // namespace

FileContinuation::FileContinuation(const LoosePieces& loose, const Context& context)
    : loose_(loose),
      context_(context),
      work_(std::min(kMaxWork, loose.bytes.size() * loose.piece_bytes * kWorkPerByte)) {}

std::vector<PlaceClaim> FileContinuation::claims(const SourcePtr& disk,
                                                 const std::vector<LaidFile>& files,
                                                 const std::set<std::uint64_t>& open) {
  std::vector<Piece> parts{{ExtentKind::direct, disk->size(), disk, 0}};
  for (const SourcePtr& piece : loose_.bytes)
    parts.push_back({ExtentKind::direct, piece->size(), piece, 0});
  // Behind the last one, too, something lies that a content may go on in, or not.
  parts.push_back({ExtentKind::zero, kMaxOfOne, nullptr, 0});
  const SourcePtr with_pieces = make_joined(std::move(parts));
  std::vector<PlaceClaim> claims;
  for (const LaidFile& file : files) {
    const auto missing = missing_of(file, open);
    if (!missing || !tried_.emplace(missing->before.front().disk_offset, missing->border).second)
      continue;
    Bytes start(kKindBytes);
    start.resize(content_of(with_pieces, missing->before)->read(0, start).length);
    const SignatureKind* const kind = Signatures::built_in().marked(start);
    if (kind == nullptr || !tells_pieces_apart(*kind)) continue;
    if (auto claim = follow(file, *kind, *missing, with_pieces, disk->size()))
      claims.push_back(std::move(*claim));
    if (work_ == 0) break;
  }
  return claims;
}

std::optional<FileContinuation::Missing> FileContinuation::missing_of(
    const LaidFile& file, const std::set<std::uint64_t>& open) const {
  const std::uint64_t unit = loose_.piece_bytes;
  Missing missing;
  for (const FindPiece& piece : file.pieces)
    for (std::uint64_t at = 0; at < piece.length;) {
      const std::uint64_t place = piece.disk_offset + at;
      const std::uint64_t length = std::min(unit - place % unit, piece.length - at);
      if (open.contains(place - place % unit)) {
        missing.length = length;
        missing.block = place - place % unit;
        missing.within = place % unit;
        if (missing.before.empty()) return std::nullopt;
        return missing;
      }
      missing.before.push_back({place, length});
      missing.border += length;
      at += length;
    }
  return std::nullopt;
}

// Any of them; where the file is in order, the piece that would follow, and others to fail: first
// of all those that lie near it, which may be of the same file.
FileContinuation::Tried FileContinuation::pieces_for(std::uint64_t block) const {
  Tried tried;
  if (order_share(loose_) == 0) {
    tried.pieces.resize(loose_.bytes.size());
    std::iota(tried.pieces.begin(), tried.pieces.end(), std::size_t{0});
    tried.may_fit = tried.pieces.size();
    return tried;
  }
  const auto& slots = loose_.slots;
  std::set<std::size_t> may_fit, others;
  for (std::size_t i = 0; i < slots.size(); ++i) {
    if (slots[i].place) continue;
    const bool follows =
        i > 0 && slots[i - 1].place && *slots[i - 1].place + loose_.piece_bytes == block;
    const bool precedes = i + 1 < slots.size() && slots[i + 1].place &&
                          *slots[i + 1].place == block + loose_.piece_bytes;
    if (!follows && !precedes) continue;
    may_fit.insert(slots[i].piece);
    for (std::size_t k = i - std::min(i, kNear); k < std::min(i + kNear, slots.size()); ++k)
      if (!slots[k].place) others.insert(slots[k].piece);
  }
  tried.pieces.assign(may_fit.begin(), may_fit.end());
  tried.may_fit = tried.pieces.size();
  if (may_fit.empty()) return tried;
  const std::size_t step = std::max<std::size_t>(1, loose_.bytes.size() / kControls);
  for (std::size_t i = 0; i < loose_.bytes.size(); i += step) others.insert(i);
  std::set_difference(others.begin(), others.end(), may_fit.begin(), may_fit.end(),
                      std::back_inserter(tried.pieces));
  return tried;
}

std::vector<Joiner::Reach> FileContinuation::try_all(const Joiner& joiner, const Missing& missing,
                                                     const std::vector<std::size_t>& pieces,
                                                     std::uint64_t pieces_at) const {
  std::vector<Joiner::Reach> reached(pieces.size());
  const unsigned threads =
      std::max(1u, context_.threads != 0 ? context_.threads : std::thread::hardware_concurrency());
  std::vector<std::future<void>> parts;
  for (unsigned t = 0; t < threads; ++t)
    parts.push_back(std::async(std::launch::async, [&, t] {
      for (std::size_t i = t; i < pieces.size(); i += threads) {
        context_.check_cancelled();
        reached[i] = joiner.reach(missing.border,
                                  pieces_at + pieces[i] * loose_.piece_bytes + missing.within);
      }
    }));
  for (auto& part : parts) part.get();
  return reached;
}

std::optional<PlaceClaim> FileContinuation::follow(const LaidFile& file, const SignatureKind& kind,
                                                   const Missing& missing,
                                                   const SourcePtr& with_pieces,
                                                   std::uint64_t pieces_at) {
  const auto known =
      follow_content(*content_of(with_pieces, missing.before), kind, work_, context_);
  if (!known || known->complete) return std::nullopt;
  work_ -= std::min(work_, known->work);
  // Those that have their place are among them, to fail.
  const auto [pieces, may_fit] = pieces_for(missing.block);
  const bool from_start = kind.check != "jpeg";
  if (from_start && known->work * pieces.size() > std::min(kMaxOfOne, work_)) return std::nullopt;
  const auto joiner = make_joiner(with_pieces, missing.before, kind,
                                  {known->breaks, known->breaks_before - known->breaks}, context_);
  const std::vector<Joiner::Reach> reached = try_all(*joiner, missing, pieces, pieces_at);
  const std::uint64_t end = missing.border + missing.length;
  std::optional<std::size_t> fits;
  std::size_t failing = 0;
  std::uint64_t farthest = missing.border;  // of those that fail
  bool complete = false;
  for (std::size_t i = 0; i < reached.size(); ++i) {
    work_ -= std::min(work_, reached[i].work + kCostOfTry);
    const bool whole = reached[i].complete && reached[i].content.grade == Grade::whole &&
                       reached[i].content.length == file.size_bytes;
    if (whole || (!reached[i].complete && !reached[i].past_end && reached[i].breaks >= end)) {
      if (fits || i >= may_fit) return std::nullopt;
      fits = pieces[i];
      complete = whole;
    } else if (reached[i].complete || reached[i].passed >= end) {
      return std::nullopt;  // another may go on in it as well
    } else {
      ++failing;
      farthest = std::max(farthest, reached[i].breaks);
    }
  }
  const bool far = missing.length >= kShort && is_checked_all_along(kind) &&
                   farthest - missing.border <= missing.length / 2;
  if (!fits || loose_.placed[*fits] || failing < kMinFailing || !(complete || far))
    return std::nullopt;
  return PlaceClaim{*fits, missing.block,
                    fmt::format("a {} file goes on in it where its record says{}, and in none of "
                                "{} others",
                                kind.name, complete ? " to its end" : "", failing)};
}

}  // namespace lantern
