#include "volume/lvm/group.h"

#include <algorithm>

#include "base/bytes.h"

namespace lantern::lvm {
namespace {

constexpr std::uint64_t kMaxExtents = 1ull << 40;
constexpr std::uint64_t kMaxExtentSectors = 1ull << 32;
constexpr std::uint64_t kMaxSectors = 1ull << 52;

// A part of the figures can be damaged: then the volume or segment is left out.
std::optional<Segment> read_segment(const Section& section) {
  Segment segment;
  const auto start = section.number("start_extent"), extents = section.number("extent_count");
  segment.type = section.text("type");
  if (!start || !extents || segment.type.empty() || *start > kMaxExtents || *extents == 0 ||
      *extents > kMaxExtents)
    return std::nullopt;
  segment.start_extent = *start;
  segment.extents = *extents;
  segment.values = section;
  // Words behind '+' say how it is handled now, not what it is.
  segment.type = segment.type.substr(0, segment.type.find('+'));
  return segment;
}

Volume read_volume(const Section& section) {
  Volume volume;
  volume.name = section.name;
  volume.id = plain_id(section.text("id"));
  const std::vector<std::string> status = section.texts("status");
  volume.visible = std::find(status.begin(), status.end(), "VISIBLE") != status.end();
  volume.tags = section.texts("tags");
  for (const Section& inner : section.sections)
    if (inner.name.starts_with("segment"))
      if (auto segment = read_segment(inner)) volume.segments.push_back(std::move(*segment));
  std::stable_sort(
      volume.segments.begin(), volume.segments.end(),
      [](const Segment& a, const Segment& b) { return a.start_extent < b.start_extent; });
  return volume;
}

}  // namespace

std::uint64_t Volume::extents() const {
  return segments.empty() ? 0 : segments.back().start_extent + segments.back().extents;
}

const Volume* Group::volume(std::string_view volume_name) const {
  const auto found = std::find_if(volumes.begin(), volumes.end(),
                                  [&](const Volume& one) { return one.name == volume_name; });
  return found == volumes.end() ? nullptr : &*found;
}

const PhysicalVolume* Group::physical_volume(std::string_view pv_name) const {
  const auto found = std::find_if(physical.begin(), physical.end(),
                                  [&](const PhysicalVolume& one) { return one.name == pv_name; });
  return found == physical.end() ? nullptr : &*found;
}

std::string plain_id(std::string_view id) {
  std::string plain(id);
  std::erase(plain, '-');
  return plain;
}

std::optional<Group> read_group(std::string_view text) {
  const auto root = parse_text(text);
  if (!root || root->sections.size() != 1) return std::nullopt;
  const Section& body = root->sections.front();
  Group group;
  group.name = body.name;
  group.id = plain_id(body.text("id"));
  const auto number = body.number("seqno"), extent = body.number("extent_size");
  if (group.id.empty() || !number || !extent || *extent == 0 || *extent > kMaxExtentSectors)
    return std::nullopt;
  group.number = *number;
  group.extent_bytes = *extent * kSector;
  group.written = root->number("creation_time").value_or(0);
  group.description = root->text("description");
  if (const Section* const all = body.section("physical_volumes"))
    for (const Section& section : all->sections) {
      PhysicalVolume one{
          section.name, plain_id(section.text("id")), section.text("device"), 0, 0, 0, false};
      one.device_bytes = std::min(section.number("dev_size").value_or(0), kMaxSectors) * kSector;
      const auto start = section.number("pe_start"), extents = section.number("pe_count");
      if (!start || *start > kMaxSectors || !extents || *extents > kMaxExtents) continue;
      one.data_offset = *start * kSector;
      one.extents = *extents;
      const std::vector<std::string> flags = section.texts("flags");
      one.missing = std::find(flags.begin(), flags.end(), "MISSING") != flags.end();
      group.physical.push_back(std::move(one));
    }
  if (const Section* const all = body.section("logical_volumes"))
    for (const Section& section : all->sections) group.volumes.push_back(read_volume(section));
  return group;
}

}  // namespace lantern::lvm
