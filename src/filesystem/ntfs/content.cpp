#include "filesystem/ntfs/content.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "filesystem/ntfs/packing/lznt1.h"
#include "filesystem/ntfs/packing/packed.h"
#include "filesystem/ntfs/packing/unit_source.h"
#include "lantern/error.h"
#include "source/resident_source.h"

namespace lantern::ntfs {
namespace {

constexpr std::uint64_t kMaxChunks = 1u << 24;
constexpr std::uint64_t kMaxUnitBytes = 16u << 20;

void add(std::vector<Range>& ranges, Range range) {
  if (range.empty()) return;
  if (!ranges.empty() && ranges.back().end() == range.offset)
    ranges.back().length += range.length;
  else
    ranges.push_back(range);
}

// The stream's clusters laid end to end, and which bytes of it are lost, doubtful or holes.
struct Laid {
  SourcePtr bytes;
  std::vector<Range> lost, doubtful, holes;
};

Laid lay_out(const Volume& volume, const Stream& stream, std::uint64_t size, const Judge& judge) {
  const std::uint64_t step = volume.geometry.cluster_bytes;
  Laid laid;
  std::vector<Piece> pieces;
  std::uint64_t at = 0;
  const auto put = [&](ExtentKind kind, std::uint64_t length, std::uint64_t place) {
    const Range range{at, std::min(length, size - at)};
    if (range.empty()) return;
    if (kind == ExtentKind::unreadable) add(laid.lost, range);
    if (kind == ExtentKind::zero) add(laid.holes, range);
    pieces.push_back(
        {kind, range.length, kind == ExtentKind::direct ? volume.raw : nullptr, place});
    at = range.end();
  };
  for (const Run& run : stream.runs) {
    const std::uint64_t start = saturating_mul(run.vcn, step);
    if (start >= size) break;
    if (start > at) put(ExtentKind::unreadable, start - at, 0);
    if (run.hole) {
      put(ExtentKind::zero, saturating_mul(run.count, step), 0);
    } else if (!judge) {
      put(ExtentKind::direct, run.count * step, run.lcn * step);
    } else {
      const std::uint64_t needed = std::min(run.count, divide_up(size - at, step));
      const Range there = intersect({run.lcn, needed}, {0, volume.clusters_there()});
      judge(there, [&](Range part, Owners::Verdict verdict) {
        if (verdict == Owners::Verdict::disputed)
          add(laid.doubtful, {at, std::min(part.length * step, size - at)});
        put(verdict == Owners::Verdict::gone ? ExtentKind::unreadable : ExtentKind::direct,
            part.length * step, part.offset * step);
      });
    }
  }
  if (at < size) put(ExtentKind::unreadable, size - at, 0);
  laid.bytes = make_joined(std::move(pieces));
  return laid;
}

// How much of `range` lies in sorted ranges.
std::uint64_t share(const std::vector<Range>& ranges, Range range) {
  auto next = std::partition_point(ranges.begin(), ranges.end(),
                                   [&](const Range& r) { return r.end() <= range.offset; });
  std::uint64_t sum = 0;
  for (; next != ranges.end() && next->offset < range.end(); ++next)
    sum += intersect(*next, range).length;
  return sum;
}

// A unit is packed when a part of its clusters is a hole: what they hold is shorter than it.
Content unpacked(const Volume& volume, const Stream& stream, const Judge& judge) {
  const std::uint64_t unit = volume.geometry.cluster_bytes << stream.unit_shift;
  const std::uint64_t whole = saturating_mul(divide_up(stream.size_bytes, unit), unit);
  auto laid = std::make_shared<Laid>(lay_out(volume, stream, whole, judge));
  Content content;
  const auto widen = [&](const std::vector<Range>& from, std::vector<Range>& to) {
    for (const Range& range : from) {
      const std::uint64_t first = range.offset / unit * unit;
      const std::uint64_t end =
          std::min(saturating_mul(divide_up(range.end(), unit), unit), stream.size_bytes);
      const std::uint64_t begin = to.empty() ? first : std::max(first, to.back().end());
      if (begin < end) add(to, {begin, end - begin});
    }
  };
  widen(laid->lost, content.lost);
  widen(laid->doubtful, content.doubtful);
  Units units;
  units.size_bytes = stream.size_bytes;
  units.unit_bytes = unit;
  units.how = "LZNT1";
  for (const Range& lost : content.lost) units.known.push_back({lost, ExtentKind::unreadable});
  for (const Range& hole : laid->holes) {
    const std::uint64_t first = divide_up(hole.offset, unit) * unit;
    const std::uint64_t end = std::min(hole.end() / unit * unit, stream.size_bytes);
    if (first < end) units.known.push_back({{first, end - first}, ExtentKind::zero});
  }
  std::sort(
      units.known.begin(), units.known.end(),
      [](const Units::Known& a, const Units::Known& b) { return a.range.offset < b.range.offset; });
  units.unpack = [laid, unit](std::uint64_t number, std::span<std::byte> out,
                              std::vector<Range>& lost) {
    const Range place{number * unit, unit};
    const std::uint64_t holes = share(laid->holes, place);
    if (holes == unit) return;
    Bytes packed(static_cast<std::size_t>(unit - (holes > 0 ? holes : 0)));
    const ReadResult got = laid->bytes->read(place.offset, packed);
    if (!got.unreadable.empty()) {
      lost.push_back({place.offset, out.size()});
      return;
    }
    if (holes == 0) {
      std::copy_n(packed.begin(), out.size(), out.begin());
      return;
    }
    unpack_lznt1(packed, out);
  };
  content.bytes = make_units(std::move(units), volume.context);
  return content;
}

}  // namespace

void Owners::judge(const File& file, Range clusters, const Visitor& visit) const {
  for (std::uint64_t at = clusters.offset; at < clusters.end();) {
    const auto [end, used] = bitmap_.alike(at, clusters.end());
    const Range part{at, end - at};
    at = end;
    if (used) {
      visit(part, Verdict::gone);
      continue;
    }
    index_.live.parts(part, [&](Range of_part, bool live) {
      if (live) return visit(of_part, Verdict::gone);
      index_.deleted.parts_claimed_twice(of_part, [&](Range least, bool twice) {
        if (twice)
          judge_disputed(file, least, visit);
        else
          visit(least, Verdict::own);
      });
    });
  }
}

void Owners::judge_disputed(const File& file, Range clusters, const Visitor& visit) const {
  auto owner =
      std::partition_point(index_.last_owners.begin(), index_.last_owners.end(),
                           [&](const LastOwner& o) { return o.clusters.end() <= clusters.offset; });
  for (std::uint64_t at = clusters.offset; at < clusters.end();) {
    const bool told = owner != index_.last_owners.end() && owner->clusters.offset <= at;
    const std::uint64_t next = owner == index_.last_owners.end() ? clusters.end()
                               : told                            ? owner->clusters.end()
                                                                 : owner->clusters.offset;
    const Range part{at, std::min(next, clusters.end()) - at};
    const bool own = told && !file.remnant && owner->record == file.number;
    visit(part, own ? Verdict::own : told ? Verdict::gone : Verdict::disputed);
    at = part.end();
    if (told) ++owner;
  }
}

Content content_of(const Volume& volume, const Stream& stream, const Judge& judge) {
  Content content;
  if (stream.resident) {
    content.bytes = make_resident_source(stream.value, volume.raw, stream.value_place);
    return content;
  }
  const std::uint64_t unit = volume.geometry.cluster_bytes << stream.unit_shift;
  if (stream.compressed && unit <= kMaxUnitBytes) return unpacked(volume, stream, judge);
  const std::uint64_t written = std::min(stream.written_bytes, stream.size_bytes);
  Laid laid = lay_out(volume, stream, written, judge);
  content.lost = std::move(laid.lost);
  content.doubtful = std::move(laid.doubtful);
  if (written == stream.size_bytes) {
    content.bytes = std::move(laid.bytes);
    return content;
  }
  content.bytes = make_joined({{ExtentKind::direct, written, laid.bytes, 0},
                               {ExtentKind::zero, stream.size_bytes - written, nullptr, 0}});
  return content;
}

Content unpacked_by_system(const Volume& volume, const Stream& packed, std::uint64_t size_bytes,
                           std::uint32_t packing, const Judge& judge) {
  const std::uint64_t unit = chunk_bytes(packing).value_or(0);
  if (unit == 0)
    throw Error(ErrorCode::unsupported, volume.context.address, std::nullopt,
                fmt::format("the system packed it in a way that is not known here ({})", packing),
                "its packed bytes are the stream WofCompressedData");
  const Content below = content_of(volume, packed, judge);
  const std::uint64_t count = divide_up(size_bytes, unit);
  const std::uint64_t entry = size_bytes >> 32 == 0 ? 4 : 8;
  const std::uint64_t table = count > 0 ? saturating_mul(count - 1, entry) : 0;
  // Where a chunk lies in the packed stream; empty when that cannot be.
  const auto chunk_at = [bytes = below.bytes, unit, count, entry, table](std::uint64_t number) {
    const auto start = [&](std::uint64_t i) -> std::uint64_t {
      if (i == 0) return 0;
      if (i == count) return bytes->size() - std::min(bytes->size(), table);
      Bytes raw(8);
      bytes->read((i - 1) * entry, std::span(raw).first(static_cast<std::size_t>(entry)));
      return le64(raw, 0);
    };
    const std::uint64_t from = start(number);
    const std::uint64_t to = start(number + 1);
    const bool can_be =
        from < to && to - from <= unit && to <= bytes->size() - std::min(bytes->size(), table);
    return can_be ? Range{table + from, to - from} : Range{};
  };
  Content content;
  if (!below.lost.empty() && count > kMaxChunks)
    content.lost = {{0, size_bytes}};
  else if (!below.lost.empty())
    for (std::uint64_t i = 0; i < count; ++i) {
      const Range chunk = chunk_at(i);
      const Range own = intersect({i * unit, unit}, {0, size_bytes});
      if (chunk.empty() || share(below.lost, chunk) > 0) add(content.lost, own);
    }
  if (!below.doubtful.empty()) content.doubtful = {{0, size_bytes}};
  Units units;
  units.size_bytes = size_bytes;
  units.unit_bytes = unit;
  units.how = static_cast<Packing>(packing) == Packing::lzx ? "LZX" : "XPRESS";
  units.unpack = [bytes = below.bytes, chunk_at, unit, packing](
                     std::uint64_t number, std::span<std::byte> out, std::vector<Range>& lost) {
    const Range chunk = chunk_at(number);
    Bytes in(static_cast<std::size_t>(chunk.length));
    bool good = !chunk.empty() && bytes->read(chunk.offset, in).unreadable.empty();
    if (good && in.size() == out.size())
      std::copy(in.begin(), in.end(), out.begin());
    else if (good)
      good = static_cast<Packing>(packing) == Packing::lzx ? unpack_lzx(in, out)
                                                           : unpack_xpress(in, out);
    if (!good) lost.push_back({number * unit, out.size()});
  };
  content.bytes = make_units(std::move(units), volume.context);
  return content;
}

}  // namespace lantern::ntfs
