#include "survey/judge.h"
#include "survey/full.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <set>

#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/text.h"

namespace lantern::survey_parts {
namespace {

// Kept by a system for itself, without a file system: it holds code, or nothing.
bool is_reserved(const VolumeLayer& volume) {
  constexpr std::string_view kBiosBoot = "21686148-6449-6e6f-744e-656564454649";
  constexpr std::string_view kMicrosoftReserved = "e3c9e316-0b5c-4db8-817d-f92df00215ae";
  return volume.row.type_code == kBiosBoot || volume.row.type_code == kMicrosoftReserved;
}

bool is_understood(const SurveyVolume& volume) {
  const VolumeLayer& layer = *volume.layer;
  if (!volume.member_of.empty()) return true;
  if (layer.file_system() || is_reserved(layer)) return true;
  if (layer.owner()) return layer.owner()->kind == FormatKind::swap;
  return layer.start() == VolumeStart::zeros && !volume.may_hold_files;
}

// Volumes by their number where a table gives them one.
std::string name_of(const SurveyVolume& volume) {
  return volume.layer->address.print();
}

std::string facts_of(const Recognition& found) {
  std::vector<std::string> facts;
  if (!found.label.empty()) facts.push_back(fmt::format("label \"{}\"", for_terminal(found.label)));
  if (!found.uuid.empty()) facts.push_back("UUID " + found.uuid);
  if (found.range.length > 0) facts.push_back(human_size(found.range.length));
  if (!found.set_id.empty()) facts.push_back("set " + found.set_id);
  if (found.slot) facts.push_back(fmt::format("slot {}", *found.slot));
  if (!found.detail.empty()) facts.push_back(found.detail);
  return fmt::format("{}", fmt::join(facts, ", "));
}

class Judge {
 public:
  Judge(SurveyReport& report, const Session& session, const SurveyOptions& options)
      : report_(report), session_(session), options_(options), context_(session.context()) {}

  void run() {
    for (const SurveyVolume& volume : report_.volumes)
      if (volume.member_of.empty()) not_read(*volume.layer);
    for (const SurveyStart& start : report_.starts) broken_link(start);
    if (options_.count)
      for (const SurveyVolume& volume : report_.volumes) system(*volume.layer);
    whose_files();
    what_it_means();
    what_was_checked();
    plan();
    if (options_.count)
      for (const SurveyVolume& volume : report_.volumes)
        if (auto full = full_volume(volume, context_)) report_.full.push_back(std::move(*full));
    next();
  }

 private:
  void not_read(const VolumeLayer& volume) {
    if (volume.file_system() || !volume.owner() || volume.owner()->kind == FormatKind::swap) return;
    const Recognition& owner = *volume.owner();
    if (owner.format.starts_with("luks")) {
      const std::string why = volume.why_locked();
      context_.at(volume.address.print())
          .report(FindingCode::luks_key, why.empty() ? Severity::note : Severity::warning,
                  {owner.place, 0},
                  fmt::format("is encrypted by {}: {}", owner.title,
                              why.empty() ? "no key is given" : why),
                  "nothing in it is read");
      return;
    }
    const std::string facts = facts_of(owner);
    context_.at(volume.address.print())
        .report(FindingCode::volume_not_read, Severity::note, {owner.place, 0},
                fmt::format("{} is recognised and not read here{}{}", owner.title,
                            facts.empty() ? "" : ": ", facts),
                owner.set_id.empty() ? "nothing in it is changed or proposed"
                                     : "nothing is proposed for a single member of a set");
  }

  void broken_link(const SurveyStart& start) {
    const StartLink* const link = start.chain.problem();
    if (link == nullptr) return;
    context_.at(link->address)
        .report(link->code, Severity::warning, {link->offset_bytes, 0},
                fmt::format("{} start chain: {}: {}", to_string(start.chain.firmware), link->name,
                            link->what),
                link->cure);
  }

  void system(const VolumeLayer& volume) {
    const SystemState state = system_state(volume);
    const Context at = context_.at(volume.address.print());
    if (state.hibernated)
      at.report(FindingCode::start_hibernated, Severity::note, {},
                "the system on it is hibernated: its memory is stored in hiberfil.sys",
                "it is read as it is on the disk; nothing is written to it unless the system was "
                "started and shut down");
    if (state.full)
      at.report(FindingCode::start_volume_full, Severity::warning, {},
                fmt::format("the system's volume is full ({} of {} used): a likely reason for a "
                            "system that does not start",
                            human_size(volume.file_system()->used_bytes()),
                            human_size(volume.file_system()->facts().size_bytes)),
                "free space on it, or make it larger");
  }

  void whose_files() {
    const auto chosen =
        std::find_if(report_.volumes.begin(), report_.volumes.end(),
                     [](const SurveyVolume& volume) { return volume.likely_user_files; });
    if (chosen == report_.volumes.end()) return;
    const std::uint64_t size = chosen->layer->row.range.length;
    std::vector<std::string> larger;
    for (const SurveyVolume& volume : report_.volumes)
      if (volume.may_hold_files && volume.layer->row.range.length > size)
        larger.push_back(name_of(volume));
    if (larger.empty()) return;
    report_.may_be = larger;
    report_.may_be.insert(report_.may_be.begin(), report_.chosen);
    chosen->likely_user_files = false;
    report_.chosen.clear();
  }

  void what_it_means() {
    if (!options_.count) return;
    std::uint64_t files = 0, incomplete = 0;
    bool all = true;
    std::vector<std::string> unread;
    for (const SurveyVolume& volume : report_.volumes) {
      files += volume.files;
      incomplete += volume.incomplete;
      all = all && volume.counted_all;
      if (volume.may_hold_files) unread.push_back(name_of(volume));
    }
    std::string& state = report_.files_state;
    if (incomplete > 0)
      state = fmt::format("{} of {}{} files are incomplete.", incomplete, grouped(files),
                          all ? "" : " or more");
    else if (files > 0)
      state = fmt::format("All files that were found are complete: {}{}.", grouped(files),
                          all ? "" : " or more");
    else
      state = "No files were found.";
    if (!unread.empty())
      state += fmt::format(" There may be files on {} as well, which cannot be read.",
                           fmt::join(unread, ", "));
  }

  void what_was_checked() {
    std::vector<std::string> systems;
    for (const SurveyVolume& volume : report_.volumes) {
      if (!is_understood(volume))
        report_.not_checked.push_back(fmt::format(
            "{} ({})", name_of(volume), volume.content.empty() ? "unknown" : volume.content));
      else if (volume.layer->file_system())
        systems.push_back(volume.layer->format());
    }
    if (!report_.not_checked.empty() || systems.empty() || context_.findings->worse_than_note())
      return;
    std::set<std::string> tables;
    for (const SurveyLayer& layer : report_.layers)
      if (layer.kind == "table") tables.insert(layer.format);
    std::vector<std::string> parts;
    if (!tables.empty())
      parts.push_back(fmt::format("the partition table ({})", fmt::join(tables, ", ")));
    parts.push_back(
        fmt::format("{} ({})", counted(systems.size(), "file system"), fmt::join(systems, ", ")));
    if (!options_.count) parts.back() += ", their heads only";
    for (const SurveyStart& start : report_.starts)
      if (start.chain.verdict() == StartVerdict::starts)
        parts.push_back(fmt::format("the start chain ({})", to_string(start.chain.firmware)));
    report_.checked = fmt::format("{}", fmt::join(parts, ", "));
  }

  // Whether a source cannot be read in places: an image of it comes first.
  bool is_failing() const {
    const std::vector<Finding> all = context_.findings->all();
    return std::any_of(all.begin(), all.end(), [](const Finding& finding) {
      return finding.code == FindingCode::source_unreadable;
    });
  }

  // An extent or a parent is somewhere else: nothing can be repaired or told without it.
  bool misses_file() const {
    const std::vector<Finding> all = context_.findings->all();
    return std::any_of(all.begin(), all.end(), [](const Finding& finding) {
      return finding.code == FindingCode::extent_missing ||
             finding.code == FindingCode::chain_parent_missing ||
             finding.code == FindingCode::source_piece_missing;
    });
  }

  bool any_to_repair() const {
    return context_.findings->worse_than_note() ||
           std::any_of(report_.volumes.begin(), report_.volumes.end(),
                       [](const SurveyVolume& volume) { return needs_repair(volume); });
  }

  // Unknown, and not because it is something else.
  static bool needs_repair(const SurveyVolume& volume) {
    return volume.may_hold_files && !volume.layer->owner() && !volume.content.starts_with("text") &&
           volume.content != "random data";
  }

  // It opens, and nothing in it is told any more.
  bool lost_entries(const SurveyVolume& volume) const {
    if (!volume.layer->file_system() || !options_.count ||
        volume.files + volume.folders + volume.deleted > 0)
      return false;
    return is_damaged(volume.layer->address.print());
  }

  // Something in what an address leads to.
  bool needs_repair(const std::string& address) const {
    return std::any_of(
        report_.volumes.begin(), report_.volumes.end(), [&](const SurveyVolume& volume) {
          const std::string own = volume.layer->address.print();
          return needs_repair(volume) && (own == address || own.starts_with(address + "::"));
        });
  }

  // Only a plan that has fixes is worth naming.
  void plan() {
    if (!options_.count || !options_.plan || !any_to_repair() || is_failing() || misses_file())
      return;
    for (const std::string& address : to_be_planned()) {
      // A member that gets its place back is no disk of its own.
      const auto below = planned_for_.lower_bound(address);
      if (below != planned_for_.end() &&
          (below->first == address || below->first.starts_with(address + "::")))
        continue;
      try {
        Context quiet = context_;
        quiet.findings = std::make_shared<FindingSink>();
        const auto plan = repair::plan_repair(Address::parse(address), {}, session_.with(quiet));
        if (plan.fixes.empty()) continue;
        report_.fixes += plan.fixes.size();
        report_.certain_fixes += static_cast<std::size_t>(
            std::count_if(plan.fixes.begin(), plan.fixes.end(), [](const repair::RepairFix& fix) {
              return fix.certainty == repair::Certainty::certain;
            }));
        to_repair_.insert(address);
        for (const repair::RepairStep& step : plan.steps)
          for (const repair::PlannedWrite& write : step.writes)
            planned_for_.emplace(write.address, address);
      } catch (const Error& error) {
        if (error.code() == ErrorCode::stopped) throw;  // what cannot be planned is not offered
      }
    }
  }

  // What several disks make up where something is wrong with that, then the disks. What is wrong
  // with an array is planned with the group that lies on it.
  std::vector<std::string> to_be_planned() const {
    constexpr std::size_t kMaxOfSets = 16;
    std::vector<std::string> all;
    std::set<std::string> covered;  // members of what is planned
    for (auto set = report_.sets.rbegin(); set != report_.sets.rend(); ++set) {
      const std::string* first = nullptr;
      bool planned = false;
      for (const SurveySet::Volume& volume : set->volumes) {
        if (volume.address.empty() || volume.hidden || all.size() >= kMaxOfSets) continue;
        if (first == nullptr) first = &volume.address;
        if (covered.contains(volume.address) ||
            (!is_damaged(volume.address) && !needs_repair(volume.address)))
          continue;
        all.push_back(volume.address);
        planned = true;
      }
      if (!planned && first != nullptr && !covered.contains(*first) && is_damaged(*set)) {
        all.push_back(*first);
        planned = true;
      }
      if (planned)
        for (const SpanMember& member : set->members) covered.insert(member.address);
    }
    for (const SurveySource& source : report_.sources) all.push_back(source.address);
    return all;
  }

  template <typename Is>
  bool any_finding(const Is& is) const {
    const std::vector<Finding> all = context_.findings->all();
    return std::any_of(all.begin(), all.end(), [&](const Finding& finding) {
      return finding.severity != Severity::note && is(finding.address);
    });
  }

  bool is_damaged(const std::string& address) const {
    return any_finding(
        [&](const std::string& of) { return of == address || of.starts_with(address + "::"); });
  }

  bool is_damaged(const SurveySet& set) const {
    // What is said of a member that is an array itself is said of that.
    const auto is_set = [&](const std::string& of) {
      return std::any_of(report_.sets.begin(), report_.sets.end(),
                         [&](const SurveySet& one) { return one.address == of; });
    };
    return set.state != SetState::complete || any_finding([&](const std::string& of) {
             return of == set.address ||
                    (!is_set(of) &&
                     std::any_of(set.members.begin(), set.members.end(),
                                 [&](const SpanMember& member) { return member.address == of; }));
           });
  }

  std::string source_of(const VolumeLayer& volume) const {
    std::string best;
    const std::string own = volume.address.print();
    for (const SurveySource& source : report_.sources)
      if (own.starts_with(source.address) && source.address.size() >= best.size())
        best = source.address;
    // A volume of an array or group lies on several.
    return best.empty() ? own : best;
  }

  // The address of the plan that puts something right in a volume; empty: there is none.
  const std::string* plan_for(const VolumeLayer& volume) const {
    const std::string source = source_of(volume), own = volume.address.print();
    for (const std::string& planned : to_repair_)
      if (source == planned || source.starts_with(planned + "::")) return &planned;
    const auto written = planned_for_.find(own);
    return written == planned_for_.end() ? nullptr : &written->second;
  }

  void next() {
    const bool failing = is_failing();
    if (failing)
      for (const SurveySource& source : report_.sources)
        report_.next.push_back({Do::image, {source.address}});
    if (misses_file())
      for (const SurveySource& source : report_.sources)
        report_.next.push_back({Do::survey_search, {source.address}});
    for (const std::string& source : to_repair_) report_.next.push_back({Do::plan, {source}});
    for (SurveyVolume& volume : report_.volumes) {
      const std::string address = volume.layer->address.print();
      const bool deleted = volume.deleted > 0;
      if (volume.layer->file_system() && volume.files + volume.folders + volume.deleted > 0) {
        volume.next = {deleted ? Do::list_deleted : Do::list, {address}};
        if (!volume.likely_user_files && !is_possible(address)) continue;
        report_.next.push_back(*volume.next);
        if (!volume.layer->versions().empty())
          report_.next.push_back({Do::list_versions, {address}});
        report_.next.push_back({deleted ? Do::extract_deleted : Do::extract, {address}});
      } else if (needs_repair(volume) || lost_entries(volume)) {
        // Where nothing can be put right, reading all of it may still find files.
        const std::string* const planned = plan_for(*volume.layer);
        const bool fixes = planned != nullptr;
        volume.next =
            fixes ? Action{Do::plan, {*planned}} : Action{Do::sweep, {source_of(*volume.layer)}};
        if (!fixes && !failing && !misses_file() && !is_named(*volume.next))
          report_.next.push_back(*volume.next);
      }
    }
    for (const SurveySweep& sweep : report_.sweeps)
      if (const Action action{Do::sweep, {sweep.address}};
          sweep.worth && to_repair_.empty() && !failing && !is_named(action))
        report_.next.push_back(action);
    for (const SurveyVolume& volume : report_.volumes)
      if (volume.machine_configs + volume.disk_images > 0)
        report_.next.push_back(
            {volume.deleted_of_machines > 0 ? Do::machines_deleted : Do::machines,
             {volume.layer->address.print()}});
    // Nothing is known before all of it was read.
    if (std::all_of(report_.volumes.begin(), report_.volumes.end(),
                    [](const SurveyVolume& volume) { return volume.content == kZerosSeen; }))
      for (const SurveyVolume& volume : report_.volumes)
        report_.next.push_back({Do::sweep, {source_of(*volume.layer)}});
  }

  bool is_possible(const std::string& address) const {
    return std::find(report_.may_be.begin(), report_.may_be.end(), address) != report_.may_be.end();
  }

  bool is_named(const Action& action) const {
    return std::any_of(report_.next.begin(), report_.next.end(), [&](const Action& other) {
      return other.what == action.what && other.arguments == action.arguments;
    });
  }

  SurveyReport& report_;
  const Session& session_;
  const SurveyOptions& options_;
  const Context& context_;
  std::set<std::string> to_repair_;
  std::map<std::string, std::string> planned_for_;  // address that is written to: that of its plan
};

}  // namespace

void report_unknown(const DiskLayer* disk, const VolumeLayer& volume, const BytesNature& nature,
                    const Context& context) {
  if (is_reserved(volume) || nature.nature == Nature::zeros) return;
  const Context at = context.at(volume.address.print());
  const Range range{0, 0};
  if (nature.nature == Nature::text) {
    at.report(FindingCode::volume_unknown_content, Severity::note, range,
              "is " + nature.words + ", and not a disk", "it is not looked at further");
    return;
  }
  const std::string what =
      disk == nullptr ? "no file system is recognised in it"
      : disk->table.is_there()
          ? fmt::format("its type is \"{}\", and no file system is recognised in it",
                        volume.row.type)
          : "has no partition table, and no file system is recognised in it";
  at.report(FindingCode::volume_unknown_content, Severity::warning, range,
            nature.words.empty() ? what : fmt::format("{} ({})", what, nature.words),
            nature.nature == Nature::random
                ? "it may be encrypted, or compressed as a whole: without its header it cannot be "
                  "opened"
                : "its first structures may be lost; their copies are looked for by repair");
}

void judge(SurveyReport& report, const Session& session, const SurveyOptions& options) {
  Judge(report, session, options).run();
}

}  // namespace lantern::survey_parts
