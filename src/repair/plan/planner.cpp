#include "repair/plan/planner.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <utility>

#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/set_diagnosis.h"
#include "repair/facets.h"
#include "repair/partition_codes.h"
#include "repair/plan/hands_off.h"
#include "repair/plan/parts.h"
#include "repair/plan/plan_sources.h"
#include "repair/plan/spare_copy.h"
#include "repair/plan/state.h"
#include "repair/plan/volumes_for_table.h"
#include "repair/trial.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMaxRounds = 8;
constexpr std::size_t kMaxFixes = 64;
constexpr std::size_t kMaxCompared = 12;  // fixes, each of which is tried without each other
constexpr std::size_t kMaxNoted = 6;      // findings

class Planner {
 public:
  Planner(const Address& source, const PlanOptions& how, const Session& session)
      : source_(resolved(source)), how_(how), session_(session), context_(session.context()) {
    push_trial();
  }

  RepairPlan run() {
    plan_.source = trial().source().print();
    plan_.sources = plan_sources(source_, target(), context_);
    base_ = now_ = kept_ = state_of(*opened_, writes_);
    plan_.before = now_.reach();
    for (std::size_t round = 0; round < kMaxRounds && accepted_.size() < kMaxFixes; ++round) {
      const std::size_t had = accepted_.size();
      const std::size_t waited = waiting_.size();
      containers();
      sets();
      tables();
      volumes();
      if (accepted_.size() == had && waiting_.size() == waited) break;
    }
    number();
    add_written_sources(plan_, session_);
    what_is_left();
    return std::move(plan_);
  }

 private:
  const Trial& trial() const { return *trials_.back(); }

  // Over what is laid already.
  void push_trial() {
    const auto below = trials_.empty() ? context_.scratch : trials_.back()->scratch();
    trials_.push_back(std::make_unique<Trial>(
        source_, session_, Scratch::in_memory(context_.clock->now_seconds(), below)));
  }

  // A disk as a trial shows it; what cannot be opened has nothing accessible.
  struct Opened {
    std::unique_ptr<Target> target;  // may be empty
    Session session;
  };

  Opened open(const Trial& trial) const {
    Opened opened{nullptr, trial.fresh()};
    try {
      opened.target = std::make_unique<Target>(opened.session.open_disk(trial.source()));
    } catch (const Error& error) {
      if (error.code() != ErrorCode::cannot_read && error.code() != ErrorCode::unsupported) throw;
    }
    return opened;
  }

  AccessState state_of(const Opened& opened, const std::vector<PlannedWrite>& writes) {
    return opened.target ? meter_.measure(*opened.target, writes, context_) : AccessState{};
  }

  // The disk with what is laid so far. Null: it cannot be opened.
  const Target* target() {
    if (!opened_) opened_ = open(trial());
    return opened_->target.get();
  }

  void note(const Advice& text) {
    if (std::find(plan_.notes.begin(), plan_.notes.end(), text) == plan_.notes.end())
      plan_.notes.push_back(text);
  }

  // Damage that no fix repairs is not passed over in silence.
  void what_is_left() {
    if (!waiting_.empty()) store_again();
    const Session session = trial().fresh();
    try {
      const Target left = session.open_disk(trial().source());
      for (const VolumeLayer& volume : left.disk().volumes) volume.file_system();
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      note(error.what());
    }
    std::size_t told = 0;
    for (const Finding& finding : session.context().findings->all()) {
      if (finding.severity != Severity::damage) continue;
      if (++told > kMaxNoted) break;
      note(finding.address + ": " + finding.message);
    }
    if (told > kMaxNoted) note({"and more: ", Do::survey, " lists all of it"});
  }

  // --- what is proposed -------------------------------------------------------------------------

  void containers() {
    if (!source_.steps.empty() && source_.steps.back().kind == Step::Kind::volume) return;
    for (std::size_t round = 0; round < kMaxRounds; ++round) {
      const auto ask = [this] {
        Diagnosis diagnosis;
        diagnose_container(trial().source(), trial().file(), diagnosis, trial().fresh().context());
        return diagnosis;
      };
      if (!take(ask(), ask, {})) return;
    }
  }

  void sets() {
    const auto ask = [this] {
      Diagnosis diagnosis;
      diagnose_sets(target(), trial().source(), trial().fresh(), diagnosis);
      return diagnosis;
    };
    take(ask(), ask, {});
  }

  void tables() {
    if (target() == nullptr || target()->volume) return;
    const DiskPtr held = target()->disks.back();
    const DiskLayer& disk = *held;
    if (const std::string why = why_disk_is_left(disk); !why.empty()) {
      left_ = true;
      note(why);
      return;
    }
    const bool whole =
        !disk.table.is_there() && !disk.volumes.empty() && disk.volumes.front().file_system();
    if (whole || disk.container.flat->size() < 1024) return;
    const auto [found, unsearched] =
        volumes_for_table(disk, how_.every_sector, trial().fresh().context());
    if (!unsearched.empty()) note(unsearched);
    const bool gpt = has_gpt(disk) || asks_for_gpt(disk, found);
    const auto ask = [this, &found = found, gpt] {
      Diagnosis diagnosis;
      if (target() != nullptr)
        (gpt ? diagnose_gpt : diagnose_mbr)(target()->disk(), found, diagnosis,
                                            trial().fresh().context());
      return diagnosis;
    };
    const TableEvidence evidence = evidence_of_a_table(disk, found, context_);
    if (evidence == TableEvidence::none) {
      note(
          fmt::format("a {} volume begins at byte {}, where no partition does, and nothing is left "
                      "of a partition table: none is proposed",
                      found.volumes.front().file_system, found.volumes.front().range.offset));
      return;
    }
    Diagnosis diagnosis = ask();
    for (RepairStep& step : diagnosis.steps)
      if (evidence == TableEvidence::doubtful)
        step.certainty = std::max(step.certainty, Certainty::likely);
    leave_what_shrinks(disk, diagnosis);
    if (!has_gpt(disk) && fits_either_table(disk, found))
      take_either(std::move(diagnosis), disk, found, gpt, ask);
    else
      take(std::move(diagnosis), ask, found);
  }

  // Nothing is left of a table, and the volumes found could stand in an MBR or in a GPT: each is
  // one fix, and neither is certain.
  template <typename Ask>
  void take_either(Diagnosis first, const DiskLayer& disk, const VolumeSearch& found, bool gpt,
                   const Ask& ask) {
    Diagnosis second;
    (gpt ? diagnose_mbr : diagnose_gpt)(disk, found, second, trial().fresh().context());
    for (Diagnosis* const one : {&first, &second})
      for (RepairStep& step : one->steps) {
        step.part = "table";
        step.certainty =
            std::max(step.certainty, one == &first ? Certainty::likely : Certainty::possible);
      }
    const std::optional<Part> instead = as_one_part(std::move(second), found);
    const std::size_t had = accepted_.size();
    take(std::move(first), ask, found);
    if (accepted_.size() != had + 1 || !instead) return;
    std::vector<const Part*> parts = parts_of_accepted(had);
    const auto before = tried(parts);
    parts.push_back(&*instead);
    const auto after = tried(parts);
    if (!before || !after) return;
    StateChange gain = change_between(*before, *after);
    if (!gain.lost.empty() || gain.volumes < accepted_.back().gain.volumes) return;
    instead_.push_back({{*instead}, gain, gain.words(), false, {}, {had}});
  }

  // The steps of a diagnosis with what they change; none when one is not to be written.
  std::optional<Part> as_one_part(Diagnosis diagnosis, const VolumeSearch& found) {
    if (diagnosis.steps.empty()) return std::nullopt;
    for (const RepairStep& step : diagnosis.steps)
      if (!why_not_written(*target(), found, step).empty()) return std::nullopt;
    Part part{"table", std::move(diagnosis.steps)};
    if (why_not_laid(part)) return std::nullopt;
    trials_.pop_back();
    return part;
  }

  // A short file is not the true size of its disk: what would make a table or volume end where the
  // file does would lose what is missing for good.
  void leave_what_shrinks(const DiskLayer& disk, Diagnosis& diagnosis) {
    const MissingEnd missing = missing_end(disk);
    if (missing.bytes == 0) return;
    note(
        fmt::format("{} ({} bytes) are missing at the end of the disk, by {}: the copy is "
                    "incomplete; nothing is proposed that would make it fit",
                    human_size(missing.bytes), missing.bytes, missing.evidence));
    std::erase_if(diagnosis.steps, [](const RepairStep& step) {
      return step.code == "mbr.length" || step.code == "mbr.extended" ||
             (step.code.starts_with("gpt.") && step.code != "gpt.protective");
    });
  }

  void volumes() {
    if (left_) return;
    for (std::size_t i = 0; target() != nullptr && i < target()->disk().volumes.size(); ++i) {
      const DiskPtr disk = target()->disks.back();
      const VolumeLayer& volume = disk->volumes[i];
      if (target()->volume && target()->volume.get() != &volume) continue;
      if (!may_be_repaired(*disk, volume)) continue;
      for (const RepairFacet& facet : repair_facets())
        if (diagnose_as(facet, volume)) break;
    }
  }

  bool may_be_repaired(const DiskLayer& disk, const VolumeLayer& volume) {
    // What is recognised and not read is left alone: what would repair it would harm it.
    if (volume.owner() && !is_repaired(*volume.owner()) &&
        (volume.owner()->verified || !volume.file_system())) {
      if (volume.owner()->kind != FormatKind::swap) left_alone_.insert(volume.row.range.offset);
      return false;
    }
    const MissingEnd missing = missing_end(disk);
    const bool cut = missing.bytes > 0 && (volume.row.range.end() > disk.container.flat->size() ||
                                           !disk.table.is_there());
    Diagnosis none;
    if (cut) leave_what_shrinks(disk, none);
    return !cut;
  }

  bool diagnose_as(const RepairFacet& facet, const VolumeLayer& volume) {
    if (volume.file_system() ? volume.file_system()->facts().format != facet.format
                             : type_contradicts(volume.row, facet.format))
      return false;
    const std::uint64_t start = volume.row.range.offset;
    const auto ask = [this, start, diagnose = facet.diagnose] {
      Diagnosis diagnosis;
      if (target() == nullptr) return diagnosis;
      const DiskLayer& disk = target()->disk();
      for (const VolumeLayer& now : disk.volumes) {
        if (now.row.range.offset != start) continue;
        diagnose(disk, now, diagnosis, trial().fresh().context());
        break;
      }
      return diagnosis;
    };
    Diagnosis diagnosis = ask();
    // Volumes of one kind in several places have steps of one name.
    for (RepairStep& step : diagnosis.steps)
      step.part = fmt::format("{}@{}", step.part.empty() ? step.code : step.part, start);
    return take(std::move(diagnosis), ask, {});
  }

  // --- what is taken ----------------------------------------------------------------------------

  static std::string key_of(const RepairStep& step) { return step.code + step.what; }

  // Lays each part over the disk and keeps it when it gains something. False: none was kept.
  template <typename Ask>
  bool take(Diagnosis diagnosis, const Ask& ask, const VolumeSearch& found) {
    for (const Advice& text : diagnosis.notes) note(text);
    std::vector<Part> parts;
    for (RepairStep& step : diagnosis.steps) {
      if (step.writes.empty() || seen_.contains(key_of(step))) continue;
      const std::string name = step.part.empty() ? step.code + step.what : step.part;
      const auto known = std::find_if(parts.begin(), parts.end(),
                                      [&](const Part& part) { return part.name == name; });
      if (known == parts.end())
        parts.push_back({name, {std::move(step)}});
      else
        known->steps.push_back(std::move(step));
    }
    bool any = false;
    for (Part& part : parts) {
      context_.check_cancelled();
      any = take_part(std::move(part), ask, found) || any;
    }
    return any;
  }

  // Lays a part over what is laid, with what it changes. Where it does not fit nothing is laid:
  // why, or an empty text where there is nothing to say.
  std::optional<std::string> why_not_laid(Part& part) {
    push_trial();
    try {
      for (RepairStep& step : part.steps) {
        trial().fill_before(step);
        trial().write(step);
      }
      return std::nullopt;
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      trials_.pop_back();
      return error.code() == ErrorCode::usage ? "" : error.what();
    }
  }

  template <typename Ask>
  bool take_part(Part part, const Ask& ask, const VolumeSearch& found) {
    for (const RepairStep& step : part.steps) seen_.insert(key_of(step));
    for (const RepairStep& step : part.steps) {
      const std::string why = target() == nullptr ? "" : why_not_written(*target(), found, step);
      if (why.empty()) continue;
      note(fmt::format("{}: not proposed: {}", step.what, why));
      return false;
    }
    if (const auto why = why_not_laid(part)) {
      if (!why->empty())
        note(fmt::format("{}: cannot be written: {}", part.steps.front().what, *why));
      return false;
    }
    std::vector<PlannedWrite> writes = writes_;
    for (const RepairStep& step : part.steps)
      writes.insert(writes.end(), step.writes.begin(), step.writes.end());
    std::optional<Opened> earlier = std::exchange(opened_, open(trial()));
    AccessState after = state_of(*opened_, writes);
    StateChange gain = change_between(now_, after);
    const bool restored = gain.lost.empty() && !gain.gains() && restores(part, ask);
    if (!gain.lost.empty()) {
      trials_.pop_back();
      opened_ = std::move(earlier);
      note(fmt::format("{}: not proposed: with it, this would be accessible no more: {}",
                       part.steps.front().what, gain.lost));
      return false;
    }
    writes_ = std::move(writes);
    now_ = std::move(after);
    if (!gain.gains() && !restored) {
      waiting_.push_back(std::move(part));
      return true;
    }
    keep(std::move(part), std::move(gain), restored);
    return true;
  }

  // Whether what a part belongs to can be read in a state: its volume, or any.
  static bool is_accessible(const AccessState& state, const Part& part) {
    const std::size_t at = part.name.rfind('@');
    if (at == std::string::npos) return state.reach().volumes > 0;
    const auto volume = state.volumes.find(std::stoull(part.name.substr(at + 1)));
    return volume != state.volumes.end() && !volume->second.type.empty();
  }

  // Whether a spare copy is as it should be now: asked again, its diagnosis is content. Only of
  // what is accessible.
  template <typename Ask>
  bool restores(const Part& part, const Ask& ask) {
    if (!std::all_of(part.steps.begin(), part.steps.end(),
                     [](const RepairStep& step) { return restores_copy(step.code); }))
      return false;
    if (!is_accessible(kept_, part)) return false;
    const Diagnosis again = ask();
    return std::none_of(again.steps.begin(), again.steps.end(), [&](const RepairStep& step) {
      return std::any_of(part.steps.begin(), part.steps.end(), [&](const RepairStep& own) {
        return own.code == step.code && own.what == step.what;
      });
    });
  }

  // --- fixes ------------------------------------------------------------------------------------

  void keep(Part part, StateChange gain, bool restored) {
    Fix fix;
    fix.parts = std::move(waiting_);
    waiting_.clear();
    fix.parts.push_back(std::move(part));
    fix.gain = std::move(gain);
    fix.words = restored ? "a spare copy is restored" : fix.gain.words();
    fix.restores_copy = restored;
    const bool dropped = drop_what_is_not_needed(fix);
    accepted_.push_back(std::move(fix));
    kept_ = now_;
    if (dropped) store_again();
  }

  // What was laid and is not needed goes: all that is kept, laid anew.
  void store_again() {
    trials_.clear();
    push_trial();
    opened_.reset();
    writes_ = lay(trial(), parts_of_accepted(accepted_.size())).value_or(writes_);
    target();
    now_ = state_of(*opened_, writes_);
  }

  // What was written; empty when a part does not fit.
  std::optional<std::vector<PlannedWrite>> lay(const Trial& trial,
                                               const std::vector<const Part*>& parts) const {
    std::vector<PlannedWrite> writes;
    try {
      for (const Part* const part : parts)
        for (const RepairStep& step : part->steps) {
          context_.check_cancelled();
          trial.write(step);
          writes.insert(writes.end(), step.writes.begin(), step.writes.end());
        }
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      return std::nullopt;
    }
    return writes;
  }

  // A state with these parts laid, in order; empty when one does not fit.
  std::optional<AccessState> tried(const std::vector<const Part*>& parts) {
    const Trial trial(source_, session_,
                      Scratch::in_memory(context_.clock->now_seconds(), context_.scratch));
    const auto writes = lay(trial, parts);
    if (!writes) return std::nullopt;
    return state_of(open(trial), *writes);
  }

  std::vector<const Part*> parts_of_accepted(std::size_t without) const {
    std::vector<const Part*> parts;
    for (std::size_t i = 0; i < accepted_.size(); ++i)
      if (i != without)
        for (const Part& part : accepted_[i].parts) parts.push_back(&part);
    return parts;
  }

  // Whether a fix gains what it does with these parts laid before it. A spare copy is worth
  // something where what it is of is accessible.
  bool gains_after(const std::vector<const Part*>& before, const std::vector<const Part*>& own,
                   const StateChange& gain, bool restores_copy) {
    const auto was = before.empty() ? std::optional(base_) : tried(before);
    std::vector<const Part*> all = before;
    all.insert(all.end(), own.begin(), own.end());
    const auto is = tried(all);
    if (!was || !is || (restores_copy && !is_accessible(*was, *own.front()))) return false;
    const StateChange change = change_between(*was, *is);
    return change.lost.empty() && change.covers(gain);
  }

  // Parts that gained nothing alone belong to the fix only where it gains less without them.
  bool drop_what_is_not_needed(Fix& fix) {
    bool dropped = false;
    const std::size_t all = accepted_.size();
    for (std::size_t i = 0; i + 1 < fix.parts.size();) {
      std::vector<const Part*> own;
      for (std::size_t k = 0; k < fix.parts.size(); ++k)
        if (k != i) own.push_back(&fix.parts[k]);
      if (gains_after(parts_of_accepted(all), own, fix.gain, fix.restores_copy)) {
        fix.parts.erase(fix.parts.begin() + static_cast<std::ptrdiff_t>(i));
        dropped = true;
      } else {
        ++i;
      }
    }
    return dropped;
  }

  // Any one of several is enough for a fix: the first of them, with what that needs.
  std::vector<std::size_t> enough_for(std::size_t of, const std::vector<const Part*>& own) {
    const Fix& fix = accepted_[of];
    std::vector<const Part*> before;
    for (std::size_t k = 0; k < of; ++k) {
      for (const Part& part : accepted_[k].parts) before.push_back(&part);
      if (!gains_after(before, own, fix.gain, fix.restores_copy)) continue;
      std::vector<std::size_t> needs = accepted_[k].needs;
      needs.push_back(k);
      return needs;
    }
    return {};
  }

  void find_needs() {
    for (std::size_t i = 0; i < accepted_.size(); ++i) {
      Fix& fix = accepted_[i];
      std::vector<const Part*> own;
      for (const Part& part : fix.parts) own.push_back(&part);
      if (i == 0) continue;
      if (gains_after({}, own, fix.gain, fix.restores_copy)) continue;
      for (std::size_t k = 0; k < i; ++k) {
        std::vector<const Part*> before;
        for (std::size_t j = 0; j < i; ++j)
          if (j != k)
            for (const Part& part : accepted_[j].parts) before.push_back(&part);
        if (i > kMaxCompared || !gains_after(before, own, fix.gain, fix.restores_copy))
          fix.needs.push_back(k);
      }
      if (fix.needs.empty()) fix.needs = enough_for(i, own);
    }
  }

  void number() {
    find_needs();
    for (Fix& other : instead_) {
      const std::size_t of = other.alternatives.front();
      other.needs = accepted_[of].needs;
      accepted_[of].alternatives.push_back(accepted_.size());
      accepted_.push_back(std::move(other));
    }
    for (std::size_t i = 0; i < accepted_.size(); ++i) {
      Fix& fix = accepted_[i];
      RepairFix out;
      out.number = i + 1;
      out.gain = fix.words;
      for (const Part& part : fix.parts) out.certainty = std::max(out.certainty, part.certainty());
      for (const std::size_t need : fix.needs) {
        out.needs.push_back(need + 1);
        out.certainty = std::max(out.certainty, plan_.fixes[need].certainty);
      }
      for (const std::size_t other : fix.alternatives) out.alternatives.push_back(other + 1);
      for (Part& part : fix.parts)
        for (RepairStep& step : part.steps) {
          step.number = plan_.steps.size() + 1;
          step.certainty = std::max(step.certainty, out.certainty);
          out.steps.push_back(step.number);
          plan_.steps.push_back(step);
        }
      plan_.fixes.push_back(std::move(out));
    }
    plan_.after = reach_with(first_choice(plan_));
    plan_.after_all = reach_with(all_together(plan_));
    if (!left_alone_.empty() && plan_.fixes.empty())
      note(fmt::format("{} of kinds that are not repaired here {} left alone",
                       counted(left_alone_.size(), "volume"),
                       left_alone_.size() == 1 ? "is" : "are"));
  }

  Reach reach_with(const std::vector<std::size_t>& numbers) {
    if (numbers.empty()) return plan_.before;
    std::vector<const Part*> parts;
    for (const std::size_t number : numbers)
      for (const Part& part : accepted_[number - 1].parts) parts.push_back(&part);
    const auto state = tried(parts);
    return state ? state->reach() : plan_.before;
  }

  Address source_;
  PlanOptions how_;
  const Session& session_;
  const Context& context_;
  std::vector<std::unique_ptr<Trial>> trials_;  // each over the one before
  StateMeter meter_;
  AccessState base_, now_, kept_;     // at first, with what is laid, with what is kept
  std::vector<PlannedWrite> writes_;  // laid so far
  std::vector<Part> waiting_;         // laid, without a gain yet
  std::vector<Fix> accepted_;
  std::vector<Fix> instead_;  // alternatives of one of them
  std::optional<Opened> opened_;
  RepairPlan plan_;
  std::set<std::string> seen_;
  std::set<std::uint64_t> left_alone_;
  bool left_ = false;
};

}  // namespace

RepairPlan make_repair_plan(const Address& source, const PlanOptions& how, const Session& session) {
  return Planner(source, how, session).run();
}

}  // namespace lantern::repair
