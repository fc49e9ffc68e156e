#include "lantern/survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "lantern/error.h"
#include "lantern/machines.h"
#include "lantern/text.h"
#include "survey/content.h"
#include "survey/judge.h"
#include "survey/layers.h"
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
    gather(sources);
    for (const Address& address : set_.addresses()) look_at(address);
    for (std::string& id : set_.set_ids()) {
      auto members = set_.members_of(id);
      report_.sets.push_back({std::move(id), std::move(members)});
    }
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

  void look_at(const Address& address) {
    const Target target = session_.open_disk(address);
    report_.sources.push_back({address.print(), target.disks.front()->file->size()});
    for (const DiskPtr& disk : target.disks) survey_parts::add_disk_layers(*disk, report_);
    const DiskLayer& disk = target.disk();
    ids_.add(disk);
    set_.note_members(disk);
    const std::vector<VolumePtr> unlisted = survey_parts::unlisted_volumes(disk, session_);
    // Without a table, a disk in which volumes are found is not one volume itself.
    std::vector<VolumePtr> volumes;
    if (disk.table.is_there() || unlisted.empty()) volumes = disk.volumes.all();
    const std::size_t listed = volumes.size();
    volumes.insert(volumes.end(), unlisted.begin(), unlisted.end());
    for (SurveySpace& space : survey_parts::unallocated(disk, unlisted, context_))
      report_.spaces.push_back(std::move(space));

    VolumeChoice choice;
    if (options_.count) choice = choose_volume(volumes, context_);
    if (target.volume && target.volume->file_system()) {
      const auto named = std::find(volumes.begin(), volumes.end(), target.volume);
      choice.index.reset();
      if (named != volumes.end()) choice.index = static_cast<std::size_t>(named - volumes.begin());
    }
    for (std::size_t i = 0; i < volumes.size(); ++i)
      add_volume(disk, volumes[i], i < listed, choice.index == i, choice.why);
    if (options_.count)
      report_.sweeps.push_back(survey_parts::weigh_sweep(
          disk, std::span(report_.volumes).last(volumes.size()), context_));
    if (options_.count)
      for (StartChain& chain : read_start_chains(disk, unlisted, context_))
        report_.starts.push_back({disk.address.print(), std::move(chain)});
  }

  void add_volume(const DiskLayer& disk, const VolumePtr& layer, bool listed, bool is_choice,
                  const std::string& why) {
    SurveyVolume volume;
    volume.layer = layer;
    volume.listed = listed;
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
    // Over several sources the one with the most files is named.
    const auto files = static_cast<double>(volume.files + volume.deleted);
    if (is_choice && files > most_files_) {
      for (SurveyVolume& other : report_.volumes) other.likely_user_files = false;
      volume.likely_user_files = true;
      most_files_ = files;
      report_.chosen = layer->address.print();
      report_.why = why;
    }
    report_.volumes.push_back(std::move(volume));
  }

  const Session& session_;
  const SurveyOptions& options_;
  const Context& context_;
  Ids ids_;
  SourceSet set_;
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
