// Superblocks of members of Linux software arrays (layout: volume/md/superblock.h), from that of
// another member. Whose place a disk has is proven by its data: they are what parity or copies on
// the others say that they are.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>

#include "lantern/sources.h"
#include "lantern/text.h"
#include "repair/diagnose/set_diagnosis.h"
#include "volume/array/array.h"
#include "volume/md/rebuild.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxAllCompared = 256u << 20;  // bytes of an array that are all compared
constexpr std::uint64_t kComparedBytes = 256u << 10, kPlaces = 1024;
constexpr std::uint64_t kMinCompared = 64u << 10;

struct Known {
  std::string address;
  SourcePtr bytes;
  md::Superblock super;
};

// What may be a member that is missing.
struct Candidate {
  std::string address;
  SourcePtr bytes;
  std::optional<std::uint32_t> slot;  // by what is left of its superblock
};

struct Compared {
  std::uint64_t same = 0;  // bytes, without zeros
  std::uint64_t differing = 0;
  bool all = false;
};

struct Fit {
  const Candidate* candidate = nullptr;
  std::uint32_t slot = 0;
  md::Rebuilt rebuilt;
  Compared compared;
};

// An array as the others alone have it, and in `tried` what rests on the candidate: read from it,
// or computed with it.
struct Trial {
  SourcePtr others;
  SourcePtr tried;
  ExtentKind counts{};
};

// Adds what can be read of both at a place.
void compare_at(std::uint64_t at, const Trial& trial, Compared& compared) {
  Bytes one(kComparedBytes), other(kComparedBytes);
  const ReadResult known = trial.others->read(at, one);
  const std::size_t length = std::min(known.length, trial.tried->read(at, other).length);
  std::vector<bool> counts(length);
  const auto mark = [&](Range range, bool value) {
    const Range inside = intersect(range, {at, length});
    std::fill_n(counts.begin() + static_cast<std::ptrdiff_t>(inside.offset - at),
                static_cast<std::ptrdiff_t>(inside.length), value);
  };
  trial.tried->extents({at, length}, [&](const Extent& extent) {
    if (extent.kind == trial.counts) mark(extent.range, true);
    return true;
  });
  for (const Range& lost : known.unreadable) mark(lost, false);
  for (std::size_t i = 0; i < length; ++i) {
    if (!counts[i] || (one[i] == std::byte{0} && other[i] == std::byte{0})) continue;
    ++(one[i] == other[i] ? compared.same : compared.differing);
  }
}

class ArrayMembers {
 public:
  explicit ArrayMembers(const SetDiagnosis& of) : of_(of) {}

  void run() {
    take_known();
    if (known_.empty()) return;
    const md::Superblock& super = newest().super;
    if (!array::why_invalid(super.geometry).empty()) return;
    for (std::uint32_t slot = 0; slot < super.geometry.members; ++slot)
      if (!known_.contains(slot) &&
          std::find(super.roles.begin(), super.roles.end(), slot) != super.roles.end())
        missing_.push_back(slot);
    if (missing_.empty()) return;
    take_candidates();
    if (const std::string why = md::why_not_rebuilt(super); !why.empty()) {
      if (!candidates_.empty()) note("superblocks are not rebuilt: " + why);
      return;
    }
    std::vector<Fit> fits;
    for (const Candidate& candidate : candidates_)
      if (auto fit = fit_of(candidate)) fits.push_back(std::move(*fit));
    for (const Fit& fit : fits) propose(fit, fits);
  }

 private:
  const Known& newest() const {
    return std::max_element(known_.begin(), known_.end(),
                            [](const auto& a, const auto& b) {
                              return a.second.super.events < b.second.super.events;
                            })
        ->second;
  }

  void note(const std::string& text) {
    of_.diagnosis.notes.emplace_back(fmt::format("{}: {}", name_of(of_.set), text));
  }

  void take_known() {
    for (std::size_t i = 0; i < of_.set.members.size(); ++i) {
      const SpanMember& member = of_.set.set.members[i];
      if (member.state != MemberState::active || !of_.set.members[i] || !member.slot) continue;
      const SourcePtr bytes = own_bytes(of_.set.members[i]);
      if (!bytes) continue;
      if (auto super = md::find_superblock(*bytes); super && super->sum_is_right)
        known_[*member.slot] = {member.address, bytes, std::move(*super)};
    }
  }

  void take_candidates() {
    for (std::size_t i = 0; i < of_.set.members.size(); ++i) {
      const SpanMember& member = of_.set.set.members[i];
      if (member.state != MemberState::unknown) continue;
      const SourcePtr bytes = own_bytes(of_.set.members[i]);
      if (!bytes) continue;
      // The damage may be where it says which place it has.
      const bool is_missing = member.slot && std::find(missing_.begin(), missing_.end(),
                                                       *member.slot) != missing_.end();
      candidates_.push_back(
          {member.address, bytes, is_missing ? member.slot : std::optional<std::uint32_t>()});
    }
    // Where data begin at byte 0, the file system of the array begins on a member as well.
    const bool with_files =
        newest().super.data_offset == 0 && array::spare_members(newest().super.geometry) > 0;
    for (const VolumePtr& volume : unclaimed(of_.all, "md", with_files))
      if (const SourcePtr bytes = own_bytes(volume))
        candidates_.push_back({volume->address.print(), bytes, std::nullopt});
  }

  std::optional<Fit> fit_of(const Candidate& candidate) {
    for (const std::uint32_t slot : missing_) {
      if (candidate.slot && *candidate.slot != slot) continue;
      of_.context.check_cancelled();
      auto rebuilt =
          md::rebuild_superblock(*candidate.bytes, *newest().bytes, newest().super, slot);
      if (!rebuilt) continue;
      Fit fit{&candidate, slot, std::move(*rebuilt), {}};
      if (array::spare_members(newest().super.geometry) == 0) {
        if (candidate.slot) return fit;
        of_.diagnosis.notes.push_back(
            {fmt::format("{}: {} may be member {}: nothing proves it, since the array has neither "
                         "parity nor copies; ",
                         name_of(of_.set), candidate.address, slot),
             Do::array, " states it by hand"});
        return std::nullopt;
      }
      fit.compared = compared_with_others(fit);
      if (fit.compared.differing == 0 && fit.compared.same >= kMinCompared) return fit;
      if (fit.compared.differing == 0)
        note(
            fmt::format("{} may be member {}: too few of the others are there, or too little is "
                        "written on them, to prove it",
                        candidate.address, slot));
      else if (fit.compared.differing < fit.compared.same)
        note(
            fmt::format("{} is not taken as member {}: of {} bytes that were compared, {} are not "
                        "what the others say; it may have left the array earlier",
                        candidate.address, slot, fit.compared.same + fit.compared.differing,
                        fit.compared.differing));
    }
    return std::nullopt;
  }

  SourcePtr data_of(const SourcePtr& bytes, std::uint64_t data_offset) const {
    return make_window(bytes, {data_offset, newest().super.geometry.member_bytes});
  }

  // Its data as the array has them, beside what the array has without it; of parity also the
  // chunks of parity on it, by which another member's data can be computed.
  Compared compared_with_others(const Fit& fit) const {
    const array::Geometry& geometry = newest().super.geometry;
    const SourcePtr own = data_of(fit.candidate->bytes, newest().super.data_offset);
    std::vector<SourcePtr> without(geometry.members), alone(geometry.members);
    for (const auto& [slot, known] : known_)
      if (slot < geometry.members) without[slot] = data_of(known.bytes, known.super.data_offset);
    alone[fit.slot] = own;
    const SourcePtr by_others = array::make_array(geometry, without);
    std::vector<Trial> trials = {
        {by_others, array::make_array(geometry, alone), ExtentKind::direct}};
    if (array::has_parity(geometry)) {
      std::vector<SourcePtr> with = without;
      with[fit.slot] = own;
      // As many holes as can be computed, so that every parity there is has a part in it.
      const std::size_t lacking = geometry.members - known_.size() - 1;
      std::size_t holes = array::spare_members(geometry);
      holes -= std::min(holes, lacking);
      for (auto hole = known_.begin(); hole != known_.end() && holes > 0; ++hole, --holes)
        if (hole->first < geometry.members) with[hole->first] = nullptr;
      trials.push_back(
          {by_others, array::make_array(geometry, std::move(with)), ExtentKind::derived});
    }
    Compared compared;
    const std::uint64_t size = by_others->size();
    compared.all = size <= kMaxAllCompared;
    const std::uint64_t step =
        compared.all ? kComparedBytes
                     : std::max(kComparedBytes, size / kPlaces / kComparedBytes * kComparedBytes);
    for (std::uint64_t at = 0; at < size; at += step) {
      of_.context.check_cancelled();
      for (const Trial& trial : trials) compare_at(at, trial, compared);
    }
    return compared;
  }

  void propose(const Fit& fit, const std::vector<Fit>& all) {
    const auto for_slot = std::count_if(all.begin(), all.end(),
                                        [&](const Fit& other) { return other.slot == fit.slot; });
    if (for_slot > 1) {
      note(
          fmt::format("{} sources fit the place of member {}, {} among them: name only the one "
                      "that is the member",
                      for_slot, fit.slot, fit.candidate->address));
      return;
    }
    RepairStep step;
    step.code = "md.superblock";
    step.part = fmt::format("superblock of {}", fit.candidate->address);
    step.what = fmt::format("the superblock of member {} of {} is rebuilt from that of {}",
                            fit.slot, name_of(of_.set), newest().address);
    step.certainty =
        fit.compared.all && fit.compared.differing == 0 ? Certainty::certain : Certainty::likely;
    const std::string what = human_size(fit.compared.same);
    if (fit.compared.same == 0)
      step.evidence = "what is left of its superblock names the array and this place";
    else
      step.evidence = fmt::format(
          "{} of data {} that are not zero: all are what the other members say by {}", what,
          fit.compared.all ? "in all of the array" : "at places all over the array",
          array::has_parity(newest().super.geometry) ? "parity" : "their copies");
    add(step, fit, fit.rebuilt.place, fit.rebuilt.superblock);
    if (!fit.rebuilt.bitmap.empty()) add(step, fit, fit.rebuilt.bitmap_place, fit.rebuilt.bitmap);
    of_.diagnosis.steps.push_back(std::move(step));
  }

  static void add(RepairStep& step, const Fit& fit, std::uint64_t at, ByteView after) {
    add_changes(step, fit.candidate->address, at,
                read_bytes(*fit.candidate->bytes, at, after.size()), after);
  }

  const SetDiagnosis& of_;
  std::map<std::uint32_t, Known> known_;  // by slot
  std::vector<std::uint32_t> missing_;
  std::vector<Candidate> candidates_;
};

}  // namespace

void diagnose_array(const SetDiagnosis& of) {
  ArrayMembers(of).run();
}

}  // namespace lantern::repair
