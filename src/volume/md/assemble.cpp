#include "volume/md/assemble.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "lantern/timestamp.h"
#include "source/no_writes.h"
#include "volume/array/array.h"

namespace lantern::md {
namespace {

// What a member is used for, and how much of it.
struct Placed {
  std::size_t member = 0;  // of those that were found
  MemberState state{};
};

class Assembly {
 public:
  explicit Assembly(const std::vector<Member>& members) : members_(members) {}

  SpannedSet run() {
    choose_freshest();
    const Superblock& super = freshest().super;
    set_.format = "md";
    set_.uuid = super.set_uuid;
    set_.name = super.name;
    place_members();
    SpannedVolume volume;
    volume.name = super.name;
    volume.uuid = super.set_uuid;
    volume.type = array::in_words(super.geometry);
    for (std::size_t i = 0; i < set_.members.size(); ++i)
      if (set_.members[i].state == MemberState::active ||
          set_.members[i].state == MemberState::rebuilding)
        volume.from.push_back(i);
    open(volume);
    add_copies(volume);
    if (const std::string why = why_not_written(); volume.bytes && !why.empty())
      volume.bytes = without_writes(
          volume.bytes, "nothing is written to the array: " + why,
          {"repair a copy of it: ", Do::image, " makes one, ", Do::survey, " shows its members"});
    set_.state = volume.state;
    set_.detail = fmt::format("{}, {} of {}", volume.type, slots_.size(),
                              counted(std::max<std::size_t>(wanted_, 1), "member"));
    set_.volumes.push_back(std::move(volume));
    report_notes();
    return std::move(set_);
  }

 private:
  const Member& freshest() const { return members_[freshest_]; }

  // `address`: of a member; empty: of the array.
  void report(FindingCode code, Severity severity, std::string what, std::string done,
              std::string address = {}) {
    set_.findings.push_back(
        {code, severity, std::move(address), {}, std::move(what), std::move(done)});
  }

  // The most events, of those whose sums are right. A journal says nothing of the geometry.
  void choose_freshest() {
    const auto rank = [](const Member& member) {
      return std::tuple(member.super.sum_is_right, member.super.role() != kJournal,
                        member.super.events);
    };
    for (std::size_t i = 1; i < members_.size(); ++i)
      if (rank(members_[i]) > rank(members_[freshest_])) freshest_ = i;
  }

  MemberState state_of(const Member& member) const {
    const Superblock& newest = freshest().super;
    const Superblock& own = member.super;
    if (!own.sum_is_right && newest.sum_is_right) return MemberState::unknown;
    // The kernel counts one more while it stops: such a difference is none. What the newest says
    // of a device counts, not what that says of itself.
    const bool current = own.events + 1 >= newest.events;
    const std::uint16_t role = newest.role_of(own.device);
    if (own.role() == kJournal || role == kJournal) return MemberState::journal;
    if (role == kFailed) return MemberState::failed;
    if (own.role() < array::kMaxMembers && (role == kSpare || !current)) return MemberState::stale;
    if (own.replaces || role >= array::kMaxMembers) return MemberState::spare;
    return own.rebuilt_bytes ? MemberState::rebuilding : MemberState::active;
  }

  void place_members() {
    const Superblock& newest = freshest().super;
    const array::Geometry& geometry = newest.geometry;
    wanted_ = std::min(std::max(geometry.members, newest.reshape ? newest.reshape->to.members : 0),
                       array::kMaxMembers);
    for (std::size_t i = 0; i < members_.size(); ++i) {
      const Member& member = members_[i];
      SpanMember row;
      row.address = member.address;
      row.id = member.super.device_uuid;
      row.state = state_of(member);
      const std::uint16_t role = newest.role_of(member.super.device);
      if (row.state == MemberState::active || row.state == MemberState::rebuilding) {
        row.slot = role;
        take_slot(role, {i, row.state}, row);
      } else if (member.super.role() < array::kMaxMembers) {
        row.slot = member.super.role();
      }
      row.detail = detail_of(member, row.state);
      set_.members.push_back(std::move(row));
    }
    for (std::uint32_t slot = 0; slot < wanted_; ++slot)
      if (!slots_.contains(slot) && !left_out(slot)) {
        SpanMember row;
        row.slot = slot;
        row.state = MemberState::missing;
        set_.members.push_back(std::move(row));
      }
    std::stable_sort(set_.members.begin(), set_.members.end(),
                     [](const SpanMember& a, const SpanMember& b) {
                       return a.slot.value_or(~0u) < b.slot.value_or(~0u);
                     });
  }

  // Whether a source that is not used any more says that it has this place.
  bool left_out(std::uint32_t slot) const {
    return std::any_of(set_.members.begin(), set_.members.end(), [&](const SpanMember& member) {
      return member.slot == slot &&
             (member.state == MemberState::stale || member.state == MemberState::failed ||
              member.state == MemberState::unknown);
    });
  }

  // Of two in one place the one with more events is taken; with as many, the first, which is said.
  void take_slot(std::uint32_t slot, Placed placed, SpanMember& row) {
    const auto [there, added] = slots_.try_emplace(slot, placed);
    if (added) return;
    const Member& other = members_[there->second.member];
    const Member& own = members_[placed.member];
    const bool newer = own.super.events > other.super.events;
    const std::string& left_out = newer ? other.address : own.address;
    if (newer) {
      for (SpanMember& known : set_.members)
        if (known.address == other.address) known.state = MemberState::twice;
      there->second = placed;
    } else {
      row.state = MemberState::twice;
    }
    report(FindingCode::array_slot_twice, Severity::warning,
           fmt::format("two sources are member {}: {} and {}", slot, other.address, own.address),
           fmt::format("{} is left out", left_out), left_out);
  }

  std::string detail_of(const Member& member, MemberState state) const {
    const Superblock& newest = freshest().super;
    if (state == MemberState::stale || state == MemberState::failed)
      return fmt::format("event count {}, the newest has {}; last change {}", member.super.events,
                         newest.events, time_text(member.super.updated));
    if (state == MemberState::rebuilding)
      return fmt::format("rebuilt up to byte {} of its data", *member.super.rebuilt_bytes);
    if (state == MemberState::unknown) return "the checksum of its superblock is wrong";
    return {};
  }

  static std::string time_text(std::uint64_t seconds) {
    return to_iso8601({static_cast<std::int64_t>(seconds), 0});
  }

  // The data of a member in a place, from the byte where they begin in one of the two geometries.
  SourcePtr data_of(const Placed& placed, std::int64_t offset_change, std::uint64_t length) const {
    const Member& member = members_[placed.member];
    const Superblock& super = member.super;
    const auto start = static_cast<std::int64_t>(super.data_offset) + offset_change;
    if (start < 0) return nullptr;
    const auto from = static_cast<std::uint64_t>(start);
    const std::uint64_t size = member.bytes->size();
    if (from >= size) return nullptr;
    std::uint64_t good = std::min(length, size - from);
    if (super.rebuilt_bytes) good = std::min(good, *super.rebuilt_bytes);
    const std::vector<Range> bad = bad_blocks(*member.bytes, super);
    if (bad.empty()) return make_window(member.bytes, {from, good});
    return without(member.bytes, {from, good}, bad);
  }

  // `range` of a member; what its list of bad blocks names is unreadable.
  static SourcePtr without(const SourcePtr& member, Range range, std::vector<Range> bad) {
    std::sort(bad.begin(), bad.end(),
              [](const Range& a, const Range& b) { return a.offset < b.offset; });
    std::vector<Piece> pieces;
    std::uint64_t at = range.offset;
    const auto take = [&](ExtentKind kind, std::uint64_t end) {
      if (end > at)
        pieces.push_back({kind, end - at, kind == ExtentKind::direct ? member : nullptr, at});
      at = std::max(at, end);
    };
    for (const Range& one : bad) {
      const Range inside = intersect(one, range);
      if (inside.empty()) continue;
      take(ExtentKind::direct, std::max(at, inside.offset));
      take(ExtentKind::unreadable, inside.end());
    }
    take(ExtentKind::direct, range.end());
    return make_joined(std::move(pieces));
  }

  SourcePtr open_geometry(const array::Geometry& geometry, bool moved) const {
    std::vector<SourcePtr> sources(geometry.members);
    std::vector<std::uint64_t> lengths(geometry.members, freshest().super.data_bytes);
    for (const auto& [slot, placed] : slots_) {
      if (slot >= geometry.members) continue;
      const Superblock& super = members_[placed.member].super;
      const bool of_one_size = geometry.level > 0;
      const std::uint64_t length = of_one_size ? geometry.member_bytes : super.data_bytes;
      lengths[slot] = length;
      sources[slot] =
          data_of(placed, moved && super.reshape ? super.reshape->data_offset_change : 0, length);
    }
    return array::make_array(geometry, std::move(sources), std::move(lengths));
  }

  void open(SpannedVolume& volume) {
    const Superblock& super = freshest().super;
    const std::string why = why_not_opened(super);
    if (!why.empty()) {
      volume.why_not = why;
      volume.state = SetState::unusable;
      report(FindingCode::array_geometry, Severity::damage,
             "the geometry that is recorded cannot be: " + why, "the array is not opened");
      return;
    }
    const array::Geometry& before = super.geometry;
    volume.bytes = open_geometry(before, false);
    if (super.reshape) {
      const SourcePtr after = open_geometry(super.reshape->to, true);
      volume.bytes = join(volume.bytes, after, *super.reshape);
      const std::string to = array::in_words(super.reshape->to);
      volume.type += fmt::format(", in reshape to {} with {}", to,
                                 counted(super.reshape->to.members, "member"));
      report(FindingCode::array_reshape, Severity::warning,
             fmt::format("a reshape from {} ({} members) to {} ({} members) stopped at byte {} of "
                         "the array",
                         array::in_words(before), before.members, to, super.reshape->to.members,
                         super.reshape->position_bytes),
             "each side of that is read in its own geometry");
    }
    volume.state = health(before);
    if (super.reshape) volume.state = std::max(volume.state, health(super.reshape->to));
  }

  // Of a mirror whose members are all at one event count nobody knows which was written last.
  void add_copies(SpannedVolume& volume) {
    const Superblock& super = freshest().super;
    if (!volume.bytes || super.geometry.level != 1 || super.reshape) return;
    std::uint64_t least = super.events;
    for (const std::size_t i : volume.from) {
      for (const auto& [slot, placed] : slots_)
        if (members_[placed.member].address == set_.members[i].address) {
          volume.copies.push_back(data_of(placed, 0, super.geometry.member_bytes));
          least = std::min(least, members_[placed.member].super.events);
        }
    }
    std::erase(volume.copies, nullptr);
    for (SpanMember& member : set_.members)
      member.newest = least < super.events && member.address == freshest().address;
  }

  // What would make members disagree, or undo what waits to be done.
  std::string why_not_written() const {
    const Superblock& super = freshest().super;
    if (super.reshape) return "it is in the middle of a reshape";
    if (super.has_journal) return "changes may wait in its journal";
    const bool redundant = array::spare_members(super.geometry) > 0;
    if (super.in_step_bytes && redundant && *super.in_step_bytes < super.geometry.member_bytes)
      return "it was not closed cleanly, so that its copies or parity may be out of step";
    for (const auto& [slot, placed] : slots_)
      if (placed.state == MemberState::rebuilding) return "a member is being rebuilt";
    for (std::uint32_t slot = 0; slot < super.geometry.members; ++slot) {
      if (slots_.contains(slot)) continue;
      // One that the others record as gone is out for good; of one that is only absent, and comes
      // back, nobody would know.
      const bool expected =
          std::find(super.roles.begin(), super.roles.end(), slot) != super.roles.end();
      if (expected)
        return fmt::format(
            "member {} is absent, and the others do not record that it failed: it would come back "
            "as if it were in step",
            slot);
    }
    return {};
  }

  static std::string why_not_opened(const Superblock& super) {
    if (std::string why = array::why_invalid(super.geometry); !why.empty()) return why;
    return super.reshape ? array::why_invalid(super.reshape->to) : std::string();
  }

  // Below the position, or above it when it goes backwards, the new geometry is in force.
  static SourcePtr join(const SourcePtr& before, const SourcePtr& after, const Reshape& reshape) {
    const std::uint64_t size = std::min(before->size(), after->size());
    const std::uint64_t border = std::min(reshape.position_bytes, size);
    const SourcePtr& low = reshape.backwards ? before : after;
    const SourcePtr& high = reshape.backwards ? after : before;
    std::vector<Piece> pieces;
    if (border > 0) pieces.push_back({ExtentKind::direct, border, low, 0});
    if (size > border) pieces.push_back({ExtentKind::direct, size - border, high, border});
    return make_joined(std::move(pieces));
  }

  SetState health(const array::Geometry& geometry) const {
    std::size_t there = 0;
    for (const auto& [slot, placed] : slots_)
      there += slot < geometry.members && placed.state == MemberState::active ? 1u : 0u;
    const std::size_t missing = geometry.members - std::min<std::size_t>(there, geometry.members);
    if (missing == 0) return SetState::complete;
    if (missing <= array::spare_members(geometry)) return SetState::degraded;
    return geometry.level == 10 && copies_are_left(geometry) ? SetState::degraded
                                                             : SetState::incomplete;
  }

  // Of level 10, whether the members that are there have a copy of every chunk.
  bool copies_are_left(const array::Geometry& geometry) const {
    const array::RunMap map(geometry, {});
    array::Run run;
    // The pattern repeats after as many chunks as there are members.
    for (std::uint64_t chunk = 0; chunk < 2ull * geometry.members; ++chunk) {
      if (chunk * geometry.chunk_bytes >= map.size()) break;
      map.find(chunk * geometry.chunk_bytes, run);
      const bool there = std::any_of(run.copies.begin(), run.copies.end(), [&](const auto& copy) {
        const auto found = slots_.find(copy.member);
        return found != slots_.end() && found->second.state == MemberState::active;
      });
      if (!there) return false;
    }
    return true;
  }

  void report_notes() {
    const Superblock& super = freshest().super;
    const bool lost = set_.state == SetState::incomplete;
    const std::string instead = lost ? "what lies there alone is treated as unreadable"
                                     : "its content is computed from the others";
    const Severity severity = lost ? Severity::damage : Severity::warning;
    std::string missing;
    for (const SpanMember& member : set_.members) {
      if (member.state == MemberState::missing)
        missing += fmt::format("{}{}", missing.empty() ? "" : ", ", *member.slot);
      if (member.state == MemberState::stale || member.state == MemberState::failed)
        report(FindingCode::array_member_stale, severity,
               fmt::format("{}: {}",
                           member.state == MemberState::failed ? "failed earlier"
                                                               : "left the array earlier",
                           member.detail),
               "it is left out; " + instead, member.address);
    }
    if (!missing.empty())
      report(FindingCode::array_member_missing, severity,
             missing.find(',') == std::string::npos
                 ? fmt::format("member {} of {} is not among the sources", missing, wanted_)
                 : fmt::format("members {} of {} are not among the sources", missing, wanted_),
             instead);
    const bool redundant = array::spare_members(super.geometry) > 0;
    if (super.in_step_bytes && redundant && *super.in_step_bytes < super.geometry.member_bytes)
      report(FindingCode::array_not_in_step, Severity::warning,
             fmt::format("was not closed cleanly: from byte {} of each member on, copies and "
                         "parity may be older than the data",
                         *super.in_step_bytes),
             set_.state == SetState::complete ? "the data are read as they are"
                                              : "what is computed may be wrong where files were "
                                                "written last");
    if (super.bitmap_place != 0)
      report(
          FindingCode::array_log, Severity::note,
          fmt::format("a write-intent bitmap lies at byte {} of each member", super.bitmap_place),
          "it is not needed to read");
    const bool journal_there =
        std::any_of(set_.members.begin(), set_.members.end(),
                    [](const SpanMember& member) { return member.state == MemberState::journal; });
    if (super.has_journal)
      report(FindingCode::array_log, Severity::warning,
             std::string("changes may wait in a journal on another device") +
                 (journal_there ? "" : ", which is not among the sources"),
             "the journal is not applied: what was written last may be missing");
    if (super.has_partial_parity)
      report(FindingCode::array_log, Severity::note, "a log of partial parity lies on each member",
             "it is not applied");
    if (super.geometry.level == 0 && super.geometry.layout == 0 && members_of_unlike_size())
      report(FindingCode::array_geometry, Severity::warning,
             "which of two layouts holds behind the smallest member is not recorded",
             "the newer one is taken");
  }

  bool members_of_unlike_size() const {
    return std::any_of(slots_.begin(), slots_.end(), [&](const auto& slot) {
      return members_[slot.second.member].super.data_bytes != freshest().super.data_bytes;
    });
  }

  const std::vector<Member>& members_;
  std::size_t freshest_ = 0;
  std::size_t wanted_ = 0;
  std::map<std::uint32_t, Placed> slots_;
  SpannedSet set_;
};

}  // namespace

SpannedSet assemble(const std::vector<Member>& members) {
  return Assembly(members).run();
}

}  // namespace lantern::md
