#include <algorithm>

#include "base/checked.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/given.h"
#include "source/pass_through.h"
#include "source/writable_source.h"

namespace lantern {
namespace {

class JoinedSource final : public WritableSource {
 public:
  explicit JoinedSource(std::vector<Piece> pieces) : pieces_(std::move(pieces)) {
    starts_.reserve(pieces_.size());
    for (const Piece& piece : pieces_) {
      starts_.push_back(size_);
      const auto sum = checked_add(size_, piece.length);
      if (!sum)
        throw Error(ErrorCode::cannot_read, {}, std::nullopt,
                    "the pieces of a disk add up to more than can be addressed");
      size_ = *sum;
    }
  }

  std::uint64_t size() const override { return size_; }

  std::optional<std::span<const std::byte>> view(Range range) const override {
    if (range.empty() || range.end() > size_) return std::nullopt;
    const std::size_t i = piece_at(range.offset);
    const Piece& piece = pieces_[i];
    if (piece.kind != ExtentKind::direct || range.end() > starts_[i] + piece.length)
      return std::nullopt;
    return piece.from->view({piece.from_offset + (range.offset - starts_[i]), range.length});
  }

  Translation translate(std::uint64_t offset, ByteView bytes) const override {
    Translation done;
    for_each_part({offset, bytes.size()}, [&](const Piece& piece, Range part, std::uint64_t below) {
      if (piece.kind != ExtentKind::direct)
        throw Error(ErrorCode::unsupported, {}, part.offset,
                    "no place is stored for these bytes: they are a hole, or lost",
                    {Do::image, " makes a copy in which they have one"});
      const ByteView own = bytes.subspan(done.covered, static_cast<std::size_t>(part.length));
      done.writes.push_back({piece.from, below, Bytes(own.begin(), own.end()), false});
      done.covered += own.size();
      return true;
    });
    return done;
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    for_each_part({offset, out.size()}, [&](const Piece& piece, Range part, std::uint64_t below) {
      const auto target = out.subspan(static_cast<std::size_t>(part.offset - offset),
                                      static_cast<std::size_t>(part.length));
      if (piece.kind == ExtentKind::direct) {
        read_below(*piece.from, below, target, part.offset, unreadable);
        return true;
      }
      std::fill(target.begin(), target.end(), std::byte{0});
      if (piece.kind != ExtentKind::zero) unreadable.push_back(part);
      return true;
    });
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    bool going = true;
    for_each_part(range, [&](const Piece& piece, Range part, std::uint64_t below) {
      return going = piece.kind == ExtentKind::direct
                         ? extents_below(piece.from, below, part, visit)
                         : visit({piece.kind, part, {}, {}});
    });
    return going;
  }

 private:
  std::size_t piece_at(std::uint64_t offset) const {
    const auto after = std::upper_bound(starts_.begin(), starts_.end(), offset);
    return static_cast<std::size_t>(after - starts_.begin()) - 1;
  }

  // visit(piece, part of this source, offset in piece.from) until it returns false.
  template <typename Visit>
  void for_each_part(Range range, Visit visit) const {
    std::uint64_t at = range.offset;
    for (std::size_t i = piece_at(at); at < range.end() && i < pieces_.size(); ++i) {
      const Piece& piece = pieces_[i];
      const std::uint64_t skip = at - starts_[i];
      const std::uint64_t length = std::min(range.end() - at, piece.length - skip);
      if (length == 0) continue;
      if (!visit(piece, Range{at, length}, piece.from_offset + skip)) return;
      at += length;
    }
  }

  std::vector<Piece> pieces_;
  std::vector<std::uint64_t> starts_;
  std::uint64_t size_ = 0;
};

}  // namespace

SourcePtr make_joined(std::vector<Piece> pieces) {
  for (const Piece& piece : pieces)
    if (piece.kind == ExtentKind::direct) given(piece.from);
  return std::make_shared<JoinedSource>(std::move(pieces));
}

SourcePtr make_window(SourcePtr inner, Range range) {
  // A window is one piece: what is past the end of `inner` reads as unreadable.
  if (!checked_add(range.offset, range.length))
    throw Error(ErrorCode::cannot_read, {}, range.offset, "a window past what can be addressed");
  if (range.offset == 0 && range.length == given(inner)->size()) return inner;
  std::vector<Piece> pieces;
  pieces.push_back({ExtentKind::direct, range.length, std::move(inner), range.offset});
  return make_joined(std::move(pieces));
}

}  // namespace lantern
