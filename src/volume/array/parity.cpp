#include "volume/array/parity.h"

#include <algorithm>
#include <memory>
#include <optional>

#include "base/bytes.h"
#include "base/checked.h"
#include "lantern/error.h"
#include "source/writable_source.h"
#include "volume/array/array.h"
#include "volume/array/galois.h"

namespace lantern::array {
namespace {

// At a time, of each member: so that memory is bounded by the number of members.
constexpr std::uint64_t kMaxPart = 1u << 20;

// A row of which a part is looked at: who has what.
struct Row {
  ParityRow layout;
  std::uint64_t start = 0;  // byte of each member at which its chunk begins
};

class ParitySource final : public WritableSource {
 public:
  ParitySource(const Geometry& geometry, std::vector<SourcePtr> members)
      : geometry_(geometry),
        members_(std::move(members)),
        data_(geometry.members - parity_members(geometry)),
        size_(array_bytes(geometry, {})) {
    for (const SourcePtr& member : members_)
      if (member) stored_rows_ = std::max(stored_rows_, divide_up(member->size(), chunk_bytes()));
  }

  std::uint64_t size() const override { return size_; }

  Translation translate(std::uint64_t offset, ByteView bytes) const override;

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override;
  bool do_extents(Range range, const ExtentVisitor& visit) const override;

 private:
  std::uint64_t chunk_bytes() const { return geometry_.chunk_bytes; }
  // From here on no member has anything.
  std::uint64_t stored_end() const {
    return std::min(size_, saturating_mul(stored_rows_, chunk_bytes() * data_));
  }

  // A part of a chunk of the array.
  struct Part {
    Row row;
    std::uint32_t member = 0;
    std::uint64_t offset = 0;  // byte of the member
    std::uint64_t length = 0;
  };
  Part part_at(std::uint64_t offset, std::uint64_t most) const {
    const std::uint64_t chunk = geometry_.chunk_bytes;
    const std::uint64_t number = offset / chunk;
    Part part;
    part.row.layout = parity_row(geometry_, number / data_);
    part.row.start = number / data_ * chunk;
    part.member = part.row.layout.member_of(static_cast<std::uint32_t>(number % data_), geometry_);
    part.offset = part.row.start + offset % chunk;
    part.length = std::min({most, chunk - offset % chunk, kMaxPart});
    return part;
  }

  // Reads a part of a member; false: some of it cannot be read.
  bool read_member(std::uint32_t member, std::uint64_t offset, std::span<std::byte> out,
                   std::vector<Range>* lost) const;
  // What was read of a member already.
  struct Known {
    std::uint32_t member = 0;
    std::uint64_t offset = 0;  // byte of it
    std::span<const std::byte> bytes;
  };
  // False: some of it is lost.
  bool recover(const Row& row, std::uint32_t wanted, std::uint64_t offset, std::span<std::byte> out,
               std::uint64_t array_offset, const std::vector<Known>& known,
               std::vector<Range>& unreadable) const;
  bool solve(const Row& row, std::uint32_t wanted, std::uint64_t offset, std::span<std::byte> out,
             const std::vector<Known>& known, std::vector<Range>& troubles) const;

  Geometry geometry_;
  std::vector<SourcePtr> members_;
  std::uint64_t data_;  // chunks of data in a row
  std::uint64_t size_;
  std::uint64_t stored_rows_ = 0;
};

bool ParitySource::read_member(std::uint32_t member, std::uint64_t offset, std::span<std::byte> out,
                               std::vector<Range>* lost) const {
  const SourcePtr& source = members_[member];
  ReadResult got;
  if (source) got = source->read(offset, out);
  if (lost != nullptr) {
    *lost = std::move(got.unreadable);
    if (got.length < out.size()) lost->push_back({offset + got.length, out.size() - got.length});
    return lost->empty();
  }
  return got.unreadable.empty() && got.length == out.size();
}

// Row by row: what was read of a row serves to compute what is lost of it.
void ParitySource::do_read(std::uint64_t offset, std::span<std::byte> out,
                           std::vector<Range>& unreadable) const {
  struct Read {
    Part part;
    std::size_t at = 0;  // in `out`
    std::vector<Range> lost;
  };
  std::vector<Read> row;
  std::vector<Known> known;
  for (std::size_t done = 0; done < out.size();) {
    row.clear();
    known.clear();
    while (done < out.size()) {
      Read next{part_at(offset + done, out.size() - done), done, {}};
      if (!row.empty() && next.part.row.start != row.front().part.row.start) break;
      const auto target = out.subspan(done, static_cast<std::size_t>(next.part.length));
      if (read_member(next.part.member, next.part.offset, target, &next.lost))
        known.push_back({next.part.member, next.part.offset, target});
      done += static_cast<std::size_t>(next.part.length);
      row.push_back(std::move(next));
    }
    for (const Read& one : row)
      for (const Range& range : one.lost) {
        const std::uint64_t from = range.offset - one.part.offset;
        const auto target = out.subspan(one.at + static_cast<std::size_t>(from),
                                        static_cast<std::size_t>(range.length));
        // What was computed serves to compute another.
        if (recover(one.part.row, one.part.member, range.offset, target, offset + one.at + from,
                    known, unreadable))
          known.push_back({one.part.member, range.offset, target});
      }
  }
}

// Where a second member is unreadable in places only, those places are taken alone.
bool ParitySource::recover(const Row& row, std::uint32_t wanted, std::uint64_t offset,
                           std::span<std::byte> out, std::uint64_t array_offset,
                           const std::vector<Known>& known, std::vector<Range>& unreadable) const {
  std::vector<Range> troubles;
  if (solve(row, wanted, offset, out, known, troubles)) return true;
  // The borders of what others cannot read divide the stretch.
  std::vector<std::uint64_t> borders = {offset, offset + out.size()};
  for (const Range& range : troubles)
    for (const std::uint64_t border : {range.offset, range.end()})
      if (border > offset && border < offset + out.size()) borders.push_back(border);
  std::sort(borders.begin(), borders.end());
  borders.erase(std::unique(borders.begin(), borders.end()), borders.end());
  bool whole = true;
  for (std::size_t i = 0; i + 1 < borders.size(); ++i) {
    const std::uint64_t from = borders[i] - offset;
    const auto part = out.subspan(static_cast<std::size_t>(from),
                                  static_cast<std::size_t>(borders[i + 1] - borders[i]));
    std::vector<Range> ignored;
    if (borders.size() > 2 && solve(row, wanted, borders[i], part, known, ignored)) continue;
    std::fill(part.begin(), part.end(), std::byte{0});
    unreadable.push_back({array_offset + from, part.size()});
    whole = false;
  }
  return whole;
}

// `wanted` from the others; false when too many of them are lost. `troubles`: ranges of members
// that cannot be read, of those that are lost in places.
bool ParitySource::solve(const Row& row, std::uint32_t wanted, std::uint64_t offset,
                         std::span<std::byte> out, const std::vector<Known>& known,
                         std::vector<Range>& troubles) const {
  const ParityRow& layout = row.layout;
  std::vector<const std::byte*> there(geometry_.members);  // null: lost, or not needed
  // Not filled before they are read into.
  std::vector<std::unique_ptr<std::byte[]>> buffers(geometry_.members);
  const auto read_into_buffer = [&](std::uint32_t member, std::vector<Range>& lost) {
    buffers[member].reset(new std::byte[out.size()]);
    const std::span<std::byte> bytes(buffers[member].get(), out.size());
    if (!read_member(member, offset, bytes, &lost)) return false;
    there[member] = bytes.data();
    return true;
  };
  for (const Known& one : known)
    if (one.offset <= offset && offset + out.size() <= one.offset + one.bytes.size())
      there[one.member] = one.bytes.data() + (offset - one.offset);
  std::optional<std::uint32_t> other;  // lost, too
  for (std::uint32_t member = 0; member < geometry_.members; ++member) {
    // The second parity is read only when it is needed.
    if (there[member] != nullptr || member == wanted || (layout.q && member == *layout.q)) continue;
    std::vector<Range> lost;
    if (members_[member] && read_into_buffer(member, lost)) continue;
    if (members_[member]) troubles.insert(troubles.end(), lost.begin(), lost.end());
    if (other || !layout.q) return false;
    other = member;
  }
  std::vector<Term> terms;
  const auto add = [&](std::uint32_t member, std::uint8_t factor) {
    terms.push_back({there[member], factor});
  };
  const auto each_data = [&](const auto& factor_of) {
    for (std::uint32_t i = 0; i < data_; ++i) {
      const std::uint32_t member = layout.member_of(i, geometry_);
      if (there[member] != nullptr) add(member, factor_of(member));
    }
  };
  const auto power = [&](std::uint32_t member) {
    return power_of_two(layout.power_of(member, geometry_));
  };
  if (!other) {
    each_data([](std::uint32_t) { return std::uint8_t{1}; });
    add(layout.p, 1);
    sum_of(terms, out);
    return true;
  }
  if (!members_[*layout.q]) return false;
  std::vector<Range> lost;
  if (!read_into_buffer(*layout.q, lost)) {
    troubles.insert(troubles.end(), lost.begin(), lost.end());
    return false;
  }
  if (*other == layout.p) {
    const std::uint8_t scale = inverse(power(wanted));
    each_data([&](std::uint32_t member) { return multiply(power(member), scale); });
    add(*layout.q, scale);
  } else {
    const std::uint8_t b = power(*other);
    const std::uint8_t scale = inverse(static_cast<std::uint8_t>(power(wanted) ^ b));
    each_data([&](std::uint32_t member) {
      return multiply(static_cast<std::uint8_t>(b ^ power(member)), scale);
    });
    add(layout.p, multiply(b, scale));
    add(*layout.q, scale);
  }
  sum_of(terms, out);
  return true;
}

bool ParitySource::do_extents(Range range, const ExtentVisitor& visit) const {
  for (std::uint64_t at = range.offset; at < range.end();) {
    if (at >= stored_end()) return visit({ExtentKind::unreadable, {at, range.end() - at}, {}, {}});
    const Part part = part_at(at, range.end() - at);
    const auto computed = [&](std::uint64_t from, std::uint64_t length) {
      Extent extent{ExtentKind::derived, {at + (from - part.offset), length}, {}, {}};
      std::uint32_t there = 0;
      for (std::uint32_t member = 0; member < geometry_.members; ++member) {
        if (member == part.member || !members_[member] || members_[member]->size() <= from)
          continue;
        ++there;
        extent.inputs.push_back({members_[member], from});
      }
      if (there < data_) return visit({ExtentKind::unreadable, extent.range, {}, {}});
      extent.how = kByParity;
      return visit(extent);
    };
    const SourcePtr& member = members_[part.member];
    const Range inside =
        member ? intersect({part.offset, part.length}, {0, member->size()}) : Range{part.offset, 0};
    bool going = true;
    if (!inside.empty())
      member->extents(inside, [&](const Extent& inner) {
        if (inner.kind == ExtentKind::unreadable)
          return going = computed(inner.range.offset, inner.range.length);
        return going = visit(inner.seen_through(member, at + (inner.range.offset - part.offset)));
      });
    if (going && inside.length < part.length)
      going = computed(part.offset + inside.length, part.length - inside.length);
    if (!going) return false;
    at += part.length;
  }
  return true;
}

// What parity has to become follows from what stands there now: the difference goes into each.
Translation ParitySource::translate(std::uint64_t offset, ByteView bytes) const {
  const Part part = part_at(offset, bytes.size());
  Translation done;
  done.covered = static_cast<std::size_t>(part.length);
  const ByteView own = bytes.first(done.covered);
  Bytes before(done.covered);
  const ReadResult got = read(offset, before);
  if (!got.unreadable.empty())
    throw Error(ErrorCode::unsupported, {}, offset,
                "what stands there cannot be read, so its parity cannot be made",
                "add the missing members");
  Bytes difference(done.covered);
  sum_of({{before.data()}, {own.data()}}, difference);
  const auto add_to = [&](std::uint32_t member, std::uint8_t factor) {
    if (!members_[member]) return;
    Bytes parity(done.covered);
    if (!read_member(member, part.offset, parity, nullptr))
      throw Error(ErrorCode::unsupported, {}, offset,
                  "the parity of what is written there cannot be read",
                  "copy the failing disk first");
    Bytes now(done.covered);
    sum_of({{parity.data()}, {difference.data(), factor}}, now);
    done.writes.push_back({members_[member], part.offset, std::move(now), false});
  };
  const ParityRow& layout = part.row.layout;
  if (members_[part.member])
    done.writes.push_back(
        {members_[part.member], part.offset, Bytes(own.begin(), own.end()), false});
  add_to(layout.p, 1);
  if (layout.q) add_to(*layout.q, power_of_two(layout.power_of(part.member, geometry_)));
  if (done.writes.empty())
    throw Error(ErrorCode::unsupported, {}, offset, "no member that has these bytes is there",
                "add the missing members");
  return done;
}

}  // namespace

SourcePtr make_parity_array(const Geometry& geometry, std::vector<SourcePtr> members) {
  return std::make_shared<ParitySource>(geometry, std::move(members));
}

}  // namespace lantern::array
