#include "volume/array/array.h"

#include <algorithm>

#include "base/checked.h"
#include "lantern/error.h"
#include "source/writable_source.h"
#include "volume/array/parity.h"

namespace lantern::array {
namespace {

// Arrays without parity: what each run has copies of.
class CopiesSource final : public WritableSource {
 public:
  CopiesSource(const Geometry& geometry, std::vector<SourcePtr> members,
               const std::vector<std::uint64_t>& member_bytes)
      : map_(geometry, member_bytes), members_(std::move(members)) {
    std::uint64_t longest = 0;
    for (const SourcePtr& member : members_)
      if (member) longest = std::max(longest, member->size());
    // Chunks at every place of every member are more than there can be.
    const std::uint64_t chunk = std::max<std::uint64_t>(geometry.chunk_bytes, 1);
    stored_end_ = geometry.level == kLinear ? map_.size()
                  : geometry.level == 1
                      ? longest
                      : saturating_mul(divide_up(longest, chunk), chunk * geometry.members);
  }

  std::uint64_t size() const override { return map_.size(); }

  Translation translate(std::uint64_t offset, ByteView bytes) const override {
    Run run;
    map_.find(offset, run);
    Translation done;
    done.covered = static_cast<std::size_t>(std::min<std::uint64_t>(run.length, bytes.size()));
    const ByteView own = bytes.first(done.covered);
    for (const MemberPlace& copy : run.copies) {
      const SourcePtr& member = members_[copy.member];
      if (member && copy.offset < member->size())
        done.writes.push_back({member, copy.offset, Bytes(own.begin(), own.end()), false});
    }
    if (done.writes.empty())
      throw Error(ErrorCode::unsupported, {}, offset, "no member that has these bytes is there",
                  "add the missing members");
    return done;
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    Run run;
    for (std::size_t done = 0; done < out.size();) {
      map_.find(offset + done, run);
      const auto length =
          static_cast<std::size_t>(std::min<std::uint64_t>(run.length, out.size() - done));
      read_run(run, offset + done, out.subspan(done, length), 0, unreadable);
      done += length;
    }
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    Run run;
    for (std::uint64_t at = range.offset; at < range.end();) {
      if (at >= stored_end_) return visit({ExtentKind::unreadable, {at, range.end() - at}, {}, {}});
      map_.find(at, run);
      const std::uint64_t length = std::min(run.length, range.end() - at);
      if (!visit_run(run, {at, length}, 0, visit)) return false;
      at += length;
    }
    return true;
  }

 private:
  // What one copy cannot give, the next is asked for.
  void read_run(const Run& run, std::uint64_t offset, std::span<std::byte> out, std::size_t copy,
                std::vector<Range>& unreadable) const {
    const MemberPlace* const place = place_of(run, copy);
    if (place == nullptr) {
      std::fill(out.begin(), out.end(), std::byte{0});
      unreadable.push_back({offset, out.size()});
      return;
    }
    Run rest = run;
    const ReadResult got = members_[place->member]->read(place->offset, out);
    const auto next = [&](std::uint64_t from, std::uint64_t length) {
      rest = run;
      for (MemberPlace& other : rest.copies) other.offset += from;
      read_run(rest, offset + from,
               out.subspan(static_cast<std::size_t>(from), static_cast<std::size_t>(length)),
               copy_after(run, copy), unreadable);
    };
    for (const Range& lost : got.unreadable) next(lost.offset - place->offset, lost.length);
    if (got.length < out.size()) next(got.length, out.size() - got.length);
  }

  bool visit_run(const Run& run, Range range, std::size_t copy, const ExtentVisitor& visit) const {
    const MemberPlace* const place = place_of(run, copy);
    if (place == nullptr) return visit({ExtentKind::unreadable, range, {}, {}});
    const SourcePtr& member = members_[place->member];
    const Range inside = intersect({place->offset, range.length}, {0, member->size()});
    bool going = true;
    const auto next = [&](std::uint64_t from, std::uint64_t length) {
      Run rest = run;
      for (MemberPlace& other : rest.copies) other.offset += from;
      return visit_run(rest, {range.offset + from, length}, copy_after(run, copy), visit);
    };
    if (!inside.empty())
      member->extents(inside, [&](const Extent& inner) {
        const std::uint64_t from = inner.range.offset - place->offset;
        if (inner.kind == ExtentKind::unreadable) return going = next(from, inner.range.length);
        return going = visit(inner.seen_through(member, range.offset + from));
      });
    if (going && inside.length < range.length)
      going = next(inside.length, range.length - inside.length);
    return going;
  }

  // The copy with this number, or the first behind it whose member is there.
  const MemberPlace* place_of(const Run& run, std::size_t copy) const {
    for (; copy < run.copies.size(); ++copy) {
      const MemberPlace& place = run.copies[copy];
      const SourcePtr& member = members_[place.member];
      if (member && place.offset < member->size()) return &place;
    }
    return nullptr;
  }
  std::size_t copy_after(const Run& run, std::size_t copy) const {
    const MemberPlace* const place = place_of(run, copy);
    return static_cast<std::size_t>(place - run.copies.data()) + 1;
  }

  RunMap map_;
  std::vector<SourcePtr> members_;
  std::uint64_t stored_end_ = 0;  // from here on no member has anything
};

}  // namespace

SourcePtr make_array(const Geometry& geometry, std::vector<SourcePtr> members,
                     std::vector<std::uint64_t> member_bytes) {
  const std::string why = why_invalid(geometry);
  if (!why.empty() || members.size() != geometry.members)
    throw Error(ErrorCode::cannot_read, {}, std::nullopt,
                "this cannot be the geometry of an array: " +
                    (why.empty() ? std::string("members and geometry differ in number") : why),
                "look at what its members record");
  if (has_parity(geometry)) return make_parity_array(geometry, std::move(members));
  member_bytes.resize(geometry.members, geometry.member_bytes);
  return std::make_shared<CopiesSource>(geometry, std::move(members), member_bytes);
}

}  // namespace lantern::array
