#include "lantern/survey.h"

#include <fmt/format.h>

#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMostCounted = 500'000;

void add_disk_layers(const DiskView& disk, SurveyReport& report) {
  const std::string address = disk.address.print();
  report.layers.push_back({address, "source", "file", disk.file->size(), {}});
  const Container& container = disk.container;
  std::string detail = container.variant;
  if (container.format != "raw")
    detail += fmt::format("{}stands for a disk of {}", detail.empty() ? "" : ", ",
                          human_size(container.flat->size()));
  report.layers.push_back({address, "disk", container.format, container.flat->size(), detail});
  const bool table = disk.table.scheme != VolumeTable::Scheme::none;
  if (table)
    report.layers.push_back(
        {address, "table", to_string(disk.table.scheme), container.flat->size(),
         fmt::format("{}, sectors of {} bytes", counted(disk.table.rows.size(), "volume"),
                     disk.table.sector_size)});
  for (const VolumeView& volume : disk.volumes) {
    const std::string place = volume.address.print();
    report.layers.push_back({place, "volume", table ? volume.row.type : "whole disk",
                             volume.row.range.length,
                             fmt::format("from byte {}", volume.row.range.offset)});
    if (!volume.file_system) continue;
    const FileSystemFacts& facts = volume.file_system->facts();
    report.layers.push_back({place, "file system", facts.type, facts.size_bytes,
                             fmt::format("clusters of {}", human_size(facts.cluster_bytes))});
  }
}

void count(SurveyVolume& volume, const Context& context) {
  if (!volume.view.file_system) return;
  volume.used_bytes = volume.view.file_system->used_bytes();
  std::uint64_t seen = 0;
  WalkOptions all;
  all.deleted = true;
  volume.view.file_system->walk(all, [&](const Entry& entry) {
    if (++seen > kMostCounted) {
      volume.counted_all = false;
      return WalkStep::stop;
    }
    if (seen % 4096 == 0) context.check_cancelled();
    if (entry.state != EntryState::active) {
      ++volume.deleted;
      if (entry.kind == EntryKind::file && entry.intact == 1) ++volume.deleted_whole;
    } else if (entry.kind == EntryKind::file) {
      ++volume.files;
    } else {
      ++volume.folders;
    }
    return WalkStep::go_on;
  });
}

std::string quoted(const std::string& address) {
  const bool plain = address.find_first_not_of(
                         "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
                         "/.:_-+=@,%") == std::string::npos;
  if (plain) return address;
  std::string text = "'";
  for (const char c : address) text += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return text + "'";
}

void suggest(SurveyReport& report) {
  for (const SurveyVolume& volume : report.volumes) {
    if (!volume.likely_user_files) continue;
    const std::string address = quoted(volume.view.address.print());
    report.next.push_back(
        fmt::format("lantern list {}{}", address, volume.deleted > 0 ? " --deleted" : ""));
    report.next.push_back(fmt::format("lantern extract {} RESCUED{}", address,
                                      volume.deleted > 0 ? " --deleted" : ""));
  }
}

}  // namespace

SurveyReport survey(const std::vector<Address>& sources, const OpenOptions& options,
                    const Context& context) {
  SurveyReport report;
  double best_count = -1;
  for (const Address& address : sources) {
    const Target target = open_disk_target(address, options, context);
    report.sources.push_back({address.print(), target.disks.front().file->size()});
    for (const DiskView& disk : target.disks) add_disk_layers(disk, report);
    const DiskView& disk = target.disks.back();
    VolumeChoice choice = choose_volume(disk, context);
    if (target.volume && disk.volumes[*target.volume].file_system) choice.index = target.volume;
    for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
      SurveyVolume volume;
      volume.view = disk.volumes[i];
      count(volume, context);
      // Over several sources the one with the most files is named.
      const auto files = static_cast<double>(volume.files + volume.deleted);
      if (choice.index == i && files > best_count) {
        for (SurveyVolume& other : report.volumes) other.likely_user_files = false;
        volume.likely_user_files = true;
        best_count = files;
        report.chosen = volume.view.address.print();
        report.why = choice.why;
      }
      report.volumes.push_back(std::move(volume));
    }
  }
  suggest(report);
  return report;
}

}  // namespace lantern
