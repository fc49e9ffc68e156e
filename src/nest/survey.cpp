#include "lantern/survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "lantern/error.h"
#include "lantern/text.h"
#include "lantern/timestamp.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMostCounted = 500'000;

// The share of a disk that is stored, in itself or in what it lies on. A quick look: so many
// extents and so much of the disk.
std::string fullness(const ByteSource& disk) {
  constexpr std::size_t kMostExtents = 1'000'000;
  constexpr std::uint64_t kMostBytes = 16ull << 40;
  const std::uint64_t looked = std::min(disk.size(), kMostBytes);
  std::uint64_t stored = 0;
  std::uint64_t lost = 0;
  std::size_t seen = 0;
  disk.extents({0, looked}, [&](const Extent& extent) {
    if (extent.kind == ExtentKind::unreadable) lost += extent.range.length;
    if (extent.kind == ExtentKind::direct || extent.kind == ExtentKind::derived)
      stored += extent.range.length;
    return ++seen < kMostExtents;
  });
  const double share =
      static_cast<double>(stored) / static_cast<double>(std::max<std::uint64_t>(looked, 1));
  std::string text = fmt::format("{:.0f} % of it stored", 100 * share);
  if (lost > 0) text += fmt::format(", {} lost", human_size(lost));
  if (seen >= kMostExtents || looked < disk.size()) text += " (looked at in part)";
  return text;
}

std::string facts_of(const Container& container) {
  if (!container.points_to.empty())
    return fmt::format("{}, points to {}, now {}, {}", container.variant, container.points_to,
                       container.files.front(), human_size(container.flat->size()));
  std::string text = container.variant;
  if (!text.empty()) text += ", ";
  text += fmt::format("stands for a disk of {}, {}", human_size(container.flat->size()),
                      fullness(*container.flat));
  if (!container.files.empty())
    text += fmt::format(", in {} of {} together", counted(container.files.size() + 1, "file"),
                        human_size(container.stored_bytes));
  if (!container.id.empty()) text += ", id " + container.id;
  return text;
}

void add_versions(const Address& address, const std::string& format,
                  const std::vector<DiskVersion>& versions, SurveyReport& report) {
  for (const DiskVersion& version : versions)
    report.layers.push_back(
        {address.with({Step::Kind::version, 0, version.id, {}}).print(), "version", format,
         version.size_bytes,
         (version.created ? to_iso8601(*version.created) + ", " : "") + version.name});
}

void add_disk_layers(const DiskLayer& disk, SurveyReport& report) {
  const std::string address = disk.address.print();
  report.layers.push_back({address, "source", "file", disk.file->size(), {}});
  const Container& container = disk.container;
  report.layers.push_back({address, "disk", container.format, container.flat->size(),
                           container.format == "raw" ? container.variant : facts_of(container)});
  for (const ChainLink& link : container.chain)
    report.layers.push_back(
        {link.place, "parent", link.format, 0, (link.missing ? "missing: " : "") + link.why});
  add_versions(disk.address, container.format, container.versions, report);
  const bool table = disk.table.is_there();
  if (table)
    report.layers.push_back(
        {address, "table", disk.table.scheme, container.flat->size(),
         fmt::format("{}, sectors of {} bytes", counted(disk.table.rows.size(), "volume"),
                     disk.table.sector_size)});
  for (const VolumeLayer& volume : disk.volumes) {
    const std::string place = volume.address.print();
    report.layers.push_back({place, "volume", table ? volume.row.type : "whole disk",
                             volume.row.range.length,
                             fmt::format("from byte {}", volume.row.range.offset)});
    add_versions(volume.address, volume.row.type, volume.versions(), report);
    if (!volume.file_system()) continue;
    const FileSystemFacts& facts = volume.file_system()->facts();
    report.layers.push_back({place, "file system", facts.type, facts.size_bytes,
                             fmt::format("clusters of {}", human_size(facts.cluster_bytes))});
  }
}

void count(SurveyVolume& volume, const Context& context) {
  if (!volume.layer->file_system()) return;
  volume.used_bytes = volume.layer->file_system()->used_bytes();
  std::uint64_t seen = 0;
  WalkOptions all;
  all.deleted = true;
  volume.layer->file_system()->walk(all, [&](const Entry& entry) {
    if (++seen > kMostCounted) {
      volume.counted_all = false;
      return WalkStep::stop;
    }
    if (seen % 4096 == 0) context.check_cancelled();
    if (entry.state != EntryState::active) {
      ++volume.deleted;
      if (entry.kind == EntryKind::file && entry.intact == 1) ++volume.deleted_whole;
    } else if (entry.kind == EntryKind::folder) {
      ++volume.folders;
    } else {
      ++volume.files;
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

// Empty: the target's volume is none of the disk's own.
std::optional<std::size_t> index_of(const DiskLayer& disk, const Target& target) {
  for (std::size_t i = 0; i < disk.volumes.size(); ++i)
    if (disk.volumes.share(i) == target.volume) return i;
  return std::nullopt;
}

void suggest(SurveyReport& report) {
  for (const SurveyVolume& volume : report.volumes) {
    if (!volume.likely_user_files) continue;
    const std::string address = volume.layer->address.print();
    const bool deleted = volume.deleted > 0;
    report.next.push_back({deleted ? Do::list_deleted : Do::list, {address}});
    if (!volume.layer->versions().empty()) report.next.push_back({Do::list_versions, {address}});
    report.next.push_back({deleted ? Do::extract_deleted : Do::extract, {address}});
  }
}

}  // namespace

SurveyReport survey(const std::vector<Address>& sources, const Session& session) {
  const Context& context = session.context();
  if (sources.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "no source is named", "name a disk");
  SurveyReport report;
  double best_count = -1;
  Ids ids(context);
  SourceSet set;
  for (const Address& address : sources) {
    const std::vector<Address> found = disks_of(address, context);
    if (found.empty())
      throw Error(ErrorCode::cannot_open, address.print(), std::nullopt,
                  "is a folder in which no disk lies", {Do::machines, " looks in those below it"});
    for (const Address& disk : found)
      if (const auto twice = set.add(disk))
        context.at(disk.print())
            .report(FindingCode::source_twice, Severity::note, {},
                    "is the same source as " + twice->print(), "it is read once");
  }
  for (const Address& address : set.addresses()) {
    const Target target = session.open_disk(address);
    report.sources.push_back({address.print(), target.disks.front()->file->size()});
    for (const DiskPtr& disk : target.disks) add_disk_layers(*disk, report);
    const DiskLayer& disk = target.disk();
    ids.add(disk);
    set.note_members(disk);
    VolumeChoice choice = choose_volume(disk, context);
    if (target.volume && target.volume->file_system()) choice.index = index_of(disk, target);
    for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
      SurveyVolume volume;
      volume.layer = disk.volumes.share(i);
      count(volume, context);
      // Over several sources the one with the most files is named.
      const auto files = static_cast<double>(volume.files + volume.deleted);
      if (choice.index == i && files > best_count) {
        for (SurveyVolume& other : report.volumes) other.likely_user_files = false;
        volume.likely_user_files = true;
        best_count = files;
        report.chosen = volume.layer->address.print();
        report.why = choice.why;
      }
      report.volumes.push_back(std::move(volume));
    }
  }
  for (std::string& id : set.set_ids()) {
    auto members = set.members_of(id);
    report.sets.push_back({std::move(id), std::move(members)});
  }
  suggest(report);
  const bool nothing_read =
      std::none_of(report.volumes.begin(), report.volumes.end(), [](const SurveyVolume& volume) {
        return volume.layer->file_system() != nullptr || !content_of(*volume.layer).empty();
      });
  if (nothing_read || context.findings->worse_than_note())
    for (const SurveySource& source : report.sources)
      report.next.push_back({Do::plan, {source.address}});
  return report;
}

}  // namespace lantern
