#include "survey/layers.h"

#include <fmt/format.h>

#include <algorithm>

#include "lantern/text.h"
#include "lantern/timestamp.h"

namespace lantern::survey_parts {
namespace {

// The share of a disk that its container stores, whatever of that this computer keeps as holes. A
// quick look: so many extents and so much of the disk.
std::string fullness(const ByteSource& disk) {
  constexpr std::size_t kMaxExtents = 1'000'000;
  constexpr std::uint64_t kMaxBytes = 16ull << 40;
  const std::uint64_t looked = std::min(disk.size(), kMaxBytes);
  std::uint64_t stored = 0;
  std::uint64_t lost = 0;
  std::size_t seen = 0;
  disk.extents({0, looked}, [&](const Extent& extent) {
    if (extent.kind == ExtentKind::unreadable) lost += extent.range.length;
    if (extent.kind == ExtentKind::direct || extent.kind == ExtentKind::derived ||
        (extent.kind == ExtentKind::zero && extent.how == kHostHole))
      stored += extent.range.length;
    return ++seen < kMaxExtents;
  });
  const double share =
      static_cast<double>(stored) / static_cast<double>(std::max<std::uint64_t>(looked, 1));
  std::string text = fmt::format("{:.0f} % stored", 100 * share);
  if (lost > 0) text += fmt::format(", {} lost", human_size(lost));
  if (seen >= kMaxExtents || looked < disk.size()) text += " (of a part of it)";
  return text;
}

std::string facts_of(const Container& container) {
  if (!container.points_to.empty())
    return fmt::format("{}, points to {}, now {}, {}", container.variant, container.points_to,
                       container.files.front(), human_size(container.flat->size()));
  std::string text = container.variant;
  if (!text.empty()) text += ", ";
  text += fmt::format("virtual size {}, {}", human_size(container.flat->size()),
                      fullness(*container.flat));
  if (!container.files.empty())
    text += fmt::format(", {} of {} together", counted(container.files.size() + 1, "file"),
                        human_size(container.stored_bytes));
  if (!container.id.empty()) text += ", id " + container.id;
  return text;
}

void add_versions(const Address& address, const char* kind, const std::string& format,
                  const std::vector<DiskVersion>& versions, SurveyReport& report) {
  for (const DiskVersion& version : versions)
    report.layers.push_back(
        {address.with({Step::Kind::version, 0, version.id, {}}).print(), kind, format,
         version.size_bytes,
         (version.created ? to_iso8601(*version.created) + ", " : "") + version.name});
}

}  // namespace

void add_disk_layers(const DiskLayer& disk, SurveyReport& report) {
  const std::string address = disk.address.print();
  report.layers.push_back({address, "source", "file", disk.file->size(), {}});
  const Container& container = disk.container;
  report.layers.push_back({address, "disk", container.format, container.flat->size(),
                           container.format == "raw" ? container.variant : facts_of(container)});
  for (const ChainLink& link : container.chain)
    report.layers.push_back(
        {link.place, "parent", link.format, 0, (link.missing ? "missing: " : "") + link.why});
  add_versions(disk.address, "snapshot", container.format, container.versions, report);
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
    add_versions(volume.address, "shadow copy", volume.row.type, volume.versions(), report);
    if (!volume.file_system()) continue;
    const FileSystemFacts& facts = volume.file_system()->facts();
    report.layers.push_back({place, "file system", facts.type, facts.size_bytes,
                             fmt::format("clusters of {}", human_size(facts.cluster_bytes))});
  }
}

}  // namespace lantern::survey_parts
