#include "lantern/survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "lantern/error.h"
#include "lantern/machines.h"
#include "lantern/text.h"
#include "nest/opening/steps/spanned_steps.h"
#include "recover/machines/volume_claims.h"
#include "survey/content.h"
#include "survey/judge.h"
#include "survey/layers.h"
#include "survey/sets.h"
#include "survey/spaces.h"
#include "survey/sweep_worth.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxCounted = 500'000;

void count_of_machines(SurveyVolume& volume, const Entry& entry) {
  const MachineFileName name = machine_file_name(entry.path.back());
  if (name == MachineFileName::no || entry.size_bytes == 0) return;
  ++(name == MachineFileName::disk ? volume.disk_images : volume.machine_configs);
  if (entry.state != EntryState::active) ++volume.deleted_of_machines;
}

void count(SurveyVolume& volume, const Context& context) {
  if (!volume.layer->file_system()) return;
  volume.used_bytes = volume.layer->file_system()->used_bytes();
  std::uint64_t seen = 0;
  WalkOptions all;
  all.deleted = true;
  volume.layer->file_system()->walk(all, [&](const Entry& entry) {
    if (++seen > kMaxCounted) {
      volume.counted_all = false;
      return WalkStep::stop;
    }
    if (seen % 4096 == 0) context.check_cancelled();
    const bool is_file = entry.kind == EntryKind::file;
    if (is_file) count_of_machines(volume, entry);
    if (entry.state != EntryState::active) {
      ++volume.deleted;
      if (is_file && entry.intact == 1) ++volume.deleted_intact;
    } else if (entry.kind == EntryKind::folder) {
      ++volume.folders;
    } else {
      ++volume.files;
      if (is_file && entry.intact.value_or(1) < 1) ++volume.incomplete;
    }
    return WalkStep::go_on;
  });
}

// Ids that systems find disks and volumes by: of two sources with one they take either.
class Ids {
 public:
  explicit Ids(const Context& context) : context_(context) {}

  void add(const DiskLayer& disk) {
    ++source_;
    add("disk id", disk.table.id, disk.address);
    for (const VolumeLayer& volume : disk.volumes) {
      if (volume.file_system())
        add("volume id", volume.file_system()->facts().uuid, volume.address);
      else if (volume.owner() && volume.owner()->set_id.empty())  // members share theirs
        add("volume id", volume.owner()->uuid, volume.address);
      add("entry id", volume.row.uuid, volume.address);
    }
  }

 private:
  void add(const std::string& kind, const std::string& id, const Address& address) {
    if (id.find_first_not_of("0x-") == std::string::npos) return;
    const auto [other, added] = known_.try_emplace(kind + " " + id, source_, address.print());
    if (added || other->second.first == source_) return;
    context_.at(address.print())
        .report(FindingCode::source_same_id, Severity::warning, {},
                fmt::format("has the {} of {}", other->first, other->second.second),
                "both are shown; systems may take either of the two");
  }

  const Context& context_;
  std::size_t source_ = 0;
  std::map<std::string, std::pair<std::size_t, std::string>> known_;  // by id
};

class Surveyor {
 public:
  Surveyor(const Session& session, const SurveyOptions& options)
      : session_(session), options_(options), context_(session.context()), ids_(context_) {}

  SurveyReport run(const std::vector<Address>& sources) {
    sources_ = sources.size();
    gather(sources);
    std::vector<Target> targets;
    for (const Address& address : set_.addresses()) targets.push_back(open(address));
    find_sets(sources.front(), targets);
    for (const Target& target : targets) look_at(target);
    look_at_sets();
    choose_among_all();
    name_machines();
    survey_parts::judge(report_, session_, options_);
    return std::move(report_);
  }

 private:
  void gather(const std::vector<Address>& sources) {
    for (const Address& address : sources) {
      const std::vector<Address> found = disks_of(address, context_);
      if (found.empty())
        throw Error(ErrorCode::cannot_open, address.print(), std::nullopt,
                    "is a folder that has no disk in it",
                    {Do::machines, " looks in those below it"});
      for (const Address& disk : found)
        if (const auto twice = set_.add(disk))
          context_.at(disk.print())
              .report(FindingCode::source_twice, Severity::note, {},
                      "is the same source as " + twice->print(), "it is read once");
    }
  }

  Target open(const Address& address) {
    Target target = session_.open_disk(address);
    report_.sources.push_back({address.print(), target.disks.front()->file->size()});
    return target;
  }

  // What belongs together, before anything is looked at: a member is not told as a volume of its
  // own.
  void find_sets(const Address& base, const std::vector<Target>& targets) {
    std::vector<DiskPtr> disks;
    disks.reserve(targets.size());
    for (const Target& target : targets) disks.push_back(target.disks.back());
    const bool one_by_one = sources_ > 1;
    sets_ = one_by_one ? session_.spanned_sets(disks) : session_.spanned_sets(base, disks);
    for (const SpannedSets::Set& one : sets_->sets) {
      report_.sets.push_back(survey_parts::describe_set(one));
      if (options_.count) survey_parts::compare_copies(one, context_);
      for (std::size_t i = 0; i < one.members.size(); ++i)
        if (one.members[i])
          member_of_[one.members[i]->address.print()] = report_.sets.back().address;
    }
    for (const Target& target : targets) set_.note_members(*target.disks.back());
    for (const std::string& id : set_.set_ids())
      if (auto set = survey_parts::describe_members(id, set_.members_of(id)))
        report_.sets.push_back(std::move(*set));
  }

  void look_at(const Target& target) {
    for (const DiskPtr& disk : target.disks) survey_parts::add_disk_layers(*disk, report_);
    look_at_disk(target.disks.back(), target.volume);
  }

  // The volumes of arrays and groups, and disks in them.
  void look_at_sets() {
    for (const SpannedSets::Set& one : sets_->sets) {
      for (std::size_t i = 0; i < one.volumes.size(); ++i)
        if (one.volumes[i] && !one.set.volumes[i].hidden && !one.set.volumes[i].is_pool)
          look_at_spanned(one.volumes[i], false);
      for (const VolumePtr& removed : survey_parts::removed_volumes(one, session_))
        look_at_spanned(removed, true);
    }
  }

  // Where disks belong together, what they hold is weighed together.
  void choose_among_all() {
    if (!options_.count || sets_->sets.empty()) return;
    std::vector<VolumePtr> all;
    for (const SurveyVolume& volume : report_.volumes)
      if (volume.member_of.empty() && !volume.removed) all.push_back(volume.layer);
    const VolumeChoice choice = choose_volume(all, context_);
    if (!choice.index) return;
    for (SurveyVolume& volume : report_.volumes)
      volume.likely_user_files = volume.layer == all[*choice.index];
    report_.chosen = all[*choice.index]->address.print();
    report_.why = choice.why;
  }

  // Beside each volume the machine that has it, as definitions among these disks say.
  void name_machines() {
    if (!options_.count || sets_->sets.empty()) return;
    for (std::size_t i = 0; i < report_.volumes.size(); ++i) {
      if (report_.volumes[i].removed || !report_.volumes[i].member_of.empty()) continue;
      for (const VolumeClaim& claim : volume_claims(report_.volumes[i].layer, context_)) {
        const VolumePtr claimed = claimed_volume(claim, *sets_);
        if (!claimed) continue;
        const std::string address = claimed->address.print();
        for (SurveyVolume& volume : report_.volumes) {
          const std::string own = volume.layer->address.print();
          if (own != address && !own.starts_with(address + "::")) continue;
          volume.machine = claim.machine;
          volume.machine_why = in_words(claim);
        }
      }
    }
  }

  void look_at_spanned(const VolumePtr& volume, bool removed) {
    const std::string address = volume->address.print();
    report_.layers.push_back({address, "volume", volume->row.type, volume->row.range.length, {}});
    const DiskPtr disk = member_of_.contains(address) ? nullptr : disk_in(volume, session_);
    if (disk) {
      inner_.push_back(disk);
      survey_parts::add_disk_layers(*disk, report_);
      return look_at_disk(disk, nullptr);
    }
    add_volume(nullptr, volume, true, false, {});
    report_.volumes.back().removed = removed;
  }

  void look_at_disk(const DiskPtr& found, const VolumePtr& named) {
    const DiskLayer& disk = *found;
    ids_.add(disk);
    const bool member = member_of_.contains(disk.address.print());
    std::vector<VolumePtr> unlisted;
    if (!member) unlisted = survey_parts::unlisted_volumes(disk, session_);
    // Without a table, a disk in which volumes are found is not one volume itself.
    std::vector<VolumePtr> volumes;
    if (disk.table.is_there() || unlisted.empty()) volumes = disk.volumes.all();
    const std::size_t listed = volumes.size();
    volumes.insert(volumes.end(), unlisted.begin(), unlisted.end());
    for (SurveySpace& space : survey_parts::unallocated(disk, unlisted, context_))
      report_.spaces.push_back(std::move(space));

    std::vector<VolumePtr> own;  // those that are no members
    for (const VolumePtr& volume : volumes)
      if (!member_of_.contains(volume->address.print())) own.push_back(volume);
    VolumeChoice choice;
    if (options_.count) choice = choose_volume(own, context_);
    const VolumePtr chosen = named && named->file_system() ? named
                             : choice.index                ? own[*choice.index]
                                                           : nullptr;
    for (std::size_t i = 0; i < volumes.size(); ++i)
      add_volume(&disk, volumes[i], i < listed, chosen == volumes[i], choice.why);
    if (member || own.empty()) return;
    if (options_.count) {
      SurveySweep sweep = survey_parts::weigh_sweep(
          disk, std::span(report_.volumes).last(volumes.size()), context_);
      // A group may have hundreds of disks in it: of those only one that needs it is told.
      const bool outer = disk.address.steps.empty() || sets_->sets.empty();
      if (outer || sweep.worth) report_.sweeps.push_back(std::move(sweep));
    }
    if (options_.count)
      for (StartChain& chain : read_start_chains(disk, unlisted, context_))
        report_.starts.push_back({disk.address.print(), std::move(chain)});
  }

  // Over several sources the one with the most files is named.
  void choose(SurveyVolume& volume, const std::string& why) {
    const auto files = static_cast<double>(volume.files + volume.deleted);
    if (files <= most_files_) return;
    for (SurveyVolume& other : report_.volumes) other.likely_user_files = false;
    volume.likely_user_files = true;
    most_files_ = files;
    report_.chosen = volume.layer->address.print();
    report_.why = why;
  }

  // `disk`: empty of a volume that spans disks.
  void add_volume(const DiskLayer* disk, const VolumePtr& layer, bool listed, bool is_choice,
                  const std::string& why) {
    SurveyVolume volume;
    volume.layer = layer;
    volume.listed = listed;
    if (const auto set = member_of_.find(layer->address.print()); set != member_of_.end()) {
      volume.member_of = set->second;
      volume.content = layer->owner() ? layer->owner()->title : "member";
      report_.volumes.push_back(std::move(volume));
      return;
    }
    volume.content = content_of(*layer);
    volume.may_hold_files = may_hold_files(*layer);
    volume.counted_all = options_.count;
    const bool unknown = !layer->file_system() && !layer->owner() && layer->bytes;
    if (unknown && layer->start() != VolumeStart::unreadable) {
      const auto nature = survey_parts::nature_of(*layer->bytes, context_);
      // Its first structures may be overwritten by zeros, with all the rest still there.
      const bool lost_start =
          layer->start() == VolumeStart::zeros && nature.nature != survey_parts::Nature::zeros;
      volume.content = lost_start ? "zeros at its start, then data" : nature.words;
      volume.may_hold_files = nature.nature != survey_parts::Nature::text &&
                              (volume.may_hold_files || (lost_start && !layer->row.system));
      survey_parts::report_unknown(disk, *layer, nature, context_);
    }
    if (options_.count) count(volume, context_);
    if (is_choice) choose(volume, why);
    report_.volumes.push_back(std::move(volume));
  }

  const Session& session_;
  const SurveyOptions& options_;
  const Context& context_;
  Ids ids_;
  SourceSet set_;
  std::size_t sources_ = 0;  // that were named
  std::shared_ptr<const SpannedSets> sets_;
  std::map<std::string, std::string> member_of_;  // addresses: of a member, of its set
  std::vector<DiskPtr> inner_;                    // kept open: they are asked for again
  SurveyReport report_;
  double most_files_ = -1;
};

}  // namespace

SurveyReport survey(const std::vector<Address>& sources, const Session& session,
                    const SurveyOptions& options) {
  if (sources.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "no source is named", "name a disk");
  return Surveyor(session, options).run(sources);
}

}  // namespace lantern
