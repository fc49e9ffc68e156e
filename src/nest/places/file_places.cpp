#include "nest/places/file_places.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <set>

#include "base/kinds/content_kind.h"
#include "container/expectations.h"
#include "lantern/error.h"
#include "lantern/file_system.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "lantern/volume_table.h"
#include "nest/places/file_continuation.h"
#include "nest/places/likeness.h"
#include "nest/places/order_places.h"
#include "nest/places/run_places.h"
#include "nest/places/stream_places.h"
#include "nest/places/used_places.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxWalked = 200'000;  // of a volume
constexpr std::size_t kMaxBlocks = 1u << 20;   // of a file whose order is asked for
constexpr std::uint64_t kLooked = 64;          // bytes at an edge
constexpr std::uint64_t kSurelyDiffers = 8;    // bytes before an end that are rarely all zero
constexpr double kHardlyZero = 4;              // bits, of the last byte
// A record may be older than what lies there, and a name may not say what is in the file.
constexpr double kEvidenceAgainst = -4;

// Whether a piece has claims for one place alone, and that place for no other piece.
bool any_uncontested(const std::vector<PlaceClaim>& claims) {
  std::map<std::size_t, std::set<std::uint64_t>> places;
  std::map<std::uint64_t, std::set<std::size_t>> pieces;
  for (const PlaceClaim& claim : claims) {
    places[claim.piece].insert(claim.disk_offset);
    pieces[claim.disk_offset].insert(claim.piece);
  }
  return std::any_of(places.begin(), places.end(), [&](const auto& one) {
    return one.second.size() == 1 && pieces.at(*one.second.begin()).size() == 1;
  });
}

class FileEdges final : public PlaceFinder {
 public:
  FileEdges(const LoosePieces& loose, const Context& context)
      : loose_(loose), context_(context), used_(loose), continuation_(loose, context) {}

  // How often each kind of beginning and end is there, wherever it is.
  void look(std::size_t /*piece*/, std::uint64_t /*within*/, ByteView sector) override {
    ++sectors_;
    used_.look(sector);
    const std::string_view kind = marked_kind(sector);
    if (!kind.empty())
      ++beginnings_[kind];
    else if (is_text(sector.first(kLooked)))
      ++texts_;
    std::size_t zeros = 0;
    while (zeros < sector.size() && sector[sector.size() - 1 - zeros] == std::byte{0}) ++zeros;
    if (zeros < sector.size()) ++ends_.at(zeros);
  }

  std::vector<PlaceClaim> claims(const SourcePtr& known, Expectations& expected) override {
    in_use_.clear();
    files_.clear();
    laid_ = {};
    used_.clear();
    const VolumeTable table = read_volume_table(known, std::nullopt, known_formats(), context_);
    const SourcePtr whole = unquestioned(known);
    for (const VolumeRow& row : table.rows)
      read_volume(whole, intersect(row.range, {0, known->size()}), expected);
    if (table.rows.empty()) read_volume(whole, {0, known->size()}, expected);
    used_.expect(known, expected, context_);
    return {};
  }

  std::vector<PlaceClaim> late_claims(const SourcePtr& known,
                                      const Expectations& expected) override {
    std::vector<PlaceClaim> claims = continuation_.claims(unquestioned(known), files_, in_use_);
    const auto add = [&](const std::vector<PlaceClaim>& more) {
      claims.insert(claims.end(), more.begin(), more.end());
    };
    const auto places_some = [&] {
      std::vector<PlaceClaim> all = expected.last_claims();
      all.insert(all.end(), claims.begin(), claims.end());
      return any_uncontested(all);
    };
    if (!claims.empty() && places_some()) return claims;
    add(places_by_order(loose_, expected, in_order()));
    add(places_of_runs(loose_, expected, rows(), tests_, context_));
    laid_.open = in_use_;
    // What is surest first: with that in its place more is sure.
    double doubt = 0;
    const auto streams =
        places_of_streams(loose_, unquestioned(known), expected, laid_, tries_, context_);
    for (const double most : {0.004, 0.06}) {
      for (const StreamClaim& one : streams)
        if (one.doubt >= doubt && one.doubt < most) claims.push_back(one.claim);
      if (places_some()) break;
      doubt = most;
    }
    return claims;
  }

 private:
  FileBlocks in_order() const {
    FileBlocks blocks{in_use_, {}, {}};
    const std::uint64_t unit = loose_.piece_bytes;
    for (const LaidFile& file : files_) {
      std::vector<std::uint64_t> of_file;
      for (const FindPiece& piece : file.pieces)
        for (std::uint64_t at = piece.disk_offset / unit * unit;
             at < piece.disk_offset + piece.length && of_file.size() < kMaxBlocks; at += unit)
          if (of_file.empty() || of_file.back() != at) of_file.push_back(at);
      blocks.add(of_file);
    }
    return blocks;
  }

  // Open blocks in a row in which a file lies, or several do.
  std::set<BlockRow> rows() const {
    const std::uint64_t unit = loose_.piece_bytes;
    std::set<BlockRow> rows;
    const auto add = [&](auto from, const auto& end) {
      while (from != end) {
        BlockRow row{*from, 0};
        for (; from != end && *from == row.first + row.count * unit; ++from) ++row.count;
        rows.insert(row);
      }
    };
    add(in_use_.begin(), in_use_.end());
    for (const LaidFile& file : files_)
      for (const FindPiece& piece : file.pieces)
        add(in_use_.lower_bound(piece.disk_offset / unit * unit),
            in_use_.lower_bound(piece.disk_offset + piece.length));
    return rows;
  }

  void read_volume(const SourcePtr& disk, Range range, Expectations& expected) {
    std::shared_ptr<const FileSystem> files;
    try {
      files = open_file_system(make_window(disk, range), {}, context_);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
    }
    if (!files) return;
    std::uint64_t seen = 0;
    files->walk({}, [&](const Entry& entry) {
      context_.check_cancelled();
      if (entry.kind == EntryKind::file && entry.size_bytes > 0)
        read_file(*files, entry, range, expected);
      return ++seen < kMaxWalked ? WalkStep::go_on : WalkStep::stop;
    });
  }

  void read_file(const FileSystem& files, const Entry& entry, Range volume,
                 Expectations& expected) {
    const std::uint64_t cluster = files.facts().cluster_bytes;
    const std::uint64_t unit = loose_.piece_bytes;
    if (cluster < kSector) return;
    LaidFile laid{entry.size_bytes, {}};
    bool misses = false;
    try {
      files.open(entry).bytes->extents({0, entry.size_bytes}, [&](const Extent& extent) {
        if (extent.kind != ExtentKind::direct) return true;
        const std::uint64_t below = extent.below().offset;
        if (below > volume.length || extent.range.length > volume.length - below) return true;
        const std::uint64_t place = volume.offset + below;
        for (std::uint64_t at = place / unit * unit; at < place + extent.range.length; at += unit) {
          context_.check_cancelled();
          add_border(at, {place, extent.range.length}, expected);
          if (!expected.is_open(at)) continue;
          in_use_.insert(at);
          misses = true;
        }
        laid.pieces.push_back({place, extent.range.length});
        learn_from({place, extent.range.length}, expected);
        used_.add(place, extent.range.length, cluster, expected);
        if (extent.range.offset == 0) add_beginning(place, cluster, entry.path.back(), expected);
        if (extent.range.end() == entry.size_bytes)
          add_end(place + extent.range.length, cluster, entry.size_bytes, expected);
        return true;
      });
    } catch (const Error& error) {
      if (error.code() != ErrorCode::unsupported) throw;  // encrypted
    }
    if (misses && files_.size() < kMaxWalked) files_.push_back(std::move(laid));
  }

  // Where a part of a file goes on from the block before.
  void add_border(std::uint64_t at, Range part, const Expectations& expected) {
    constexpr std::size_t kMaxBorders = 1u << 16;  // of blocks that have their place
    if (at <= part.offset || (laid_.goes_on.size() >= kMaxBorders && !expected.is_open(at) &&
                              !expected.is_open(at - loose_.piece_bytes)))
      return;
    laid_.goes_on[at] |=
        at - part.offset >= Likeness::kLooked && part.end() - at >= Likeness::kLooked;
  }

  // Places inside a part of a file.
  void learn_from(Range part, const Expectations& expected) {
    constexpr std::uint64_t kApart = 16u << 10, kMaxOfOne = 16u << 20;
    constexpr std::size_t kMaxInside = 4096;
    const std::uint64_t first = (part.offset + Likeness::kLooked + kApart - 1) / kApart * kApart;
    const std::uint64_t end = std::min(part.end(), part.offset + kMaxOfOne);
    for (std::uint64_t at = first;
         at + Likeness::kLooked <= end && laid_.inside.size() < kMaxInside; at += kApart)
      if (!expected.is_open(at) && !expected.is_open(at - 1)) laid_.inside.push_back(at);
  }

  // Bits of what so many clusters have.
  double rarity(std::uint64_t count, std::uint64_t cluster) const {
    constexpr double kMaxBits = 16;
    const double clusters =
        std::max(1.0, static_cast<double>(sectors_) * kSector / static_cast<double>(cluster));
    return std::clamp(-std::log2((static_cast<double>(count) + 0.5) / clusters), 0.0, kMaxBits);
  }

  void add_beginning(std::uint64_t place, std::uint64_t cluster, const std::string& name,
                     Expectations& expected) const {
    const std::size_t dot = name.rfind('.');
    if (dot == std::string::npos) return;
    std::vector<std::string_view> kinds = content_kinds(name.substr(dot + 1));
    if (kinds.empty()) return;
    if (std::find(kinds.begin(), kinds.end(), "docx") != kinds.end() ||
        std::find(kinds.begin(), kinds.end(), "xlsx") != kinds.end() ||
        std::find(kinds.begin(), kinds.end(), "pptx") != kinds.end())
      kinds.push_back("zip");
    std::uint64_t marked = 0;
    for (const std::string_view kind : kinds)
      if (const auto found = beginnings_.find(kind); found != beginnings_.end())
        marked += found->second;
    // Many texts begin without the marks of their kind.
    const bool text = is_textual(kinds.front());
    expected.add({place, kSector}, fmt::format("the beginning of {}", name),
                 [kinds, text, of_mark = rarity(marked, cluster),
                  of_text = rarity(texts_, cluster)](ByteView bytes) {
                   const std::string_view kind = marked_kind(bytes);
                   if (!kind.empty() && std::find(kinds.begin(), kinds.end(), kind) != kinds.end())
                     return of_mark;
                   return text && is_text(bytes.first(kLooked)) ? of_text : kEvidenceAgainst;
                 });
  }

  static bool is_textual(std::string_view kind) {
    constexpr std::array<std::string_view, 6> kTextual = {"txt", "html", "xml",
                                                          "eml", "mbox", "ps"};
    return std::find(kTextual.begin(), kTextual.end(), kind) != kTextual.end();
  }

  void add_end(std::uint64_t end, std::uint64_t cluster, std::uint64_t size,
               Expectations& expected) const {
    constexpr std::uint64_t kMinSlack = 16;
    const std::uint64_t slack = (cluster - size % cluster) % cluster;
    if (slack < kMinSlack || end < kSurelyDiffers) return;
    const std::size_t zeros = slack % kSector;
    std::uint64_t near = 0;
    for (std::size_t i = zeros + 1; i <= zeros + kSurelyDiffers && i < kSector; ++i)
      near += ends_[i];
    expected.add({end - kSurelyDiffers, kSurelyDiffers + std::min(slack, kLooked)},
                 fmt::format("the end of a file of {} bytes", size),
                 [exactly = rarity(ends_[zeros], cluster),
                  with_zeros = rarity(near, cluster) - kHardlyZero](ByteView bytes) {
                   if (!all_zero(bytes.subspan(kSurelyDiffers))) return kEvidenceAgainst;
                   // Programs end in zeros.
                   if (all_zero(bytes.first(kSurelyDiffers))) return 0.0;
                   return bytes[kSurelyDiffers - 1] != std::byte{0} ? exactly : with_zeros;
                 });
  }

  const LoosePieces& loose_;
  const Context& context_;
  UsedPlaces used_;
  FileContinuation continuation_;
  std::vector<LaidFile> files_;     // that lie in open blocks
  std::set<std::uint64_t> in_use_;  // places of open blocks that files lie in
  LaidBlocks laid_;
  std::map<std::string_view, std::uint64_t> beginnings_;
  std::array<std::uint64_t, kSector> ends_{};  // by zeros at the end of a sector
  std::uint64_t texts_ = 0, sectors_ = 0;
  std::uint64_t tests_ = 4'000'000;    // of rows that are left
  std::uint64_t tries_ = 400'000'000;  // of blocks of files written in turn
};

}  // namespace

std::unique_ptr<PlaceFinder> file_places(const LoosePieces& loose, const Context& context) {
  return std::make_unique<FileEdges>(loose, context);
}

}  // namespace lantern
