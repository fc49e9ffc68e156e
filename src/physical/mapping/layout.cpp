#include "physical/mapping/layout.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/bytes.h"
#include "host/lasting_name.h"

namespace lantern {
namespace {

// Of each stretch outside the partitions: boot code, a loader behind it, the table of a logical
// partition. And as much at the end of the disk, where a GPT has its copy.
constexpr std::uint64_t kBootArea = 1u << 20;

std::vector<Range> outside(std::vector<Range> inside, std::uint64_t size) {
  std::sort(inside.begin(), inside.end(),
            [](const Range& a, const Range& b) { return a.offset < b.offset; });
  std::vector<Range> gaps;
  std::uint64_t at = 0;
  for (const Range& range : inside) {
    if (range.offset > at) gaps.push_back({at, std::min(range.offset, size) - at});
    at = std::max(at, std::min(range.end(), size));
  }
  if (at < size) gaps.push_back({at, size - at});
  return gaps;
}

std::vector<Range> boot_areas(const VolumeTable& table, std::uint64_t size) {
  std::vector<Range> all;
  for (const VolumeRow& row : table.rows) all.push_back(row.range);
  std::vector<Range> areas;
  for (const Range& gap : outside(std::move(all), size)) {
    areas.push_back({gap.offset, std::min(gap.length, kBootArea)});
    if (gap.end() == size && gap.length > kBootArea) {
      const std::uint64_t from = std::max(areas.back().end(), size - kBootArea);
      areas.push_back({from, size - from});
    }
  }
  return areas;
}

class Laying {
 public:
  Laying(DiskMap& map, const VolumeTable& table)
      : map_(map),
        stem_(std::filesystem::path(map.file).stem().string()),
        areas_(boot_areas(table, map.disk.facts.size_bytes)) {}

  void run() {
    const HostDisk& facts = map_.disk.facts;
    const std::string device = lasting_path(facts.device);
    map_.lasting_path = !lasting_name(facts.device).empty();
    map_.extents.clear();
    if (map_.partitions.empty()) {
      map_.extents.push_back({MapExtent::Kind::device, {0, facts.size_bytes}, device, 0, {}});
      return;
    }
    std::vector<Range> mapped;
    for (const VolumeRow& row : map_.partitions) {
      mapped.push_back(row.range);
      add_partition(row.range, device);
    }
    for (const Range& gap : outside(std::move(mapped), facts.size_bytes))
      if (map_.kind == DescriptorKind::flat_extents)
        add_own(gap);
      else
        add_own_and_zeros(gap);
    std::sort(map_.extents.begin(), map_.extents.end(), [](const MapExtent& a, const MapExtent& b) {
      return a.range.offset < b.range.offset;
    });
  }

 private:
  // By its own device, which ends where the partition ends; else by its place on the disk.
  void add_partition(Range range, const std::string& disk) {
    MapExtent extent{MapExtent::Kind::device, range, disk, range.offset, {}};
    std::error_code error;
    for (const HostPartition& part : map_.disk.facts.partitions)
      if (part.range == range && std::filesystem::exists(part.device, error)) {
        extent.file = lasting_path(part.device);
        extent.from = 0;
      }
    map_.extents.push_back(std::move(extent));
  }

  void add_own(Range range) {
    MapExtent extent{MapExtent::Kind::own_file,
                     range,
                     fmt::format("{}-private-{}.raw", stem_, range.offset / kSector),
                     0,
                     {}};
    for (const Range& area : areas_)
      if (const Range part = intersect(area, range); !part.empty()) extent.copied.push_back(part);
    map_.extents.push_back(std::move(extent));
  }

  void add_own_and_zeros(Range gap) {
    std::uint64_t at = gap.offset;
    const auto add_zeros = [&](std::uint64_t to) {
      if (to > at) map_.extents.push_back({MapExtent::Kind::zeros, {at, to - at}, {}, 0, {}});
    };
    for (const Range& area : areas_) {
      const Range part = intersect(area, gap);
      if (part.empty()) continue;
      add_zeros(part.offset);
      add_own(part);
      at = part.end();
    }
    add_zeros(gap.end());
  }

  DiskMap& map_;
  std::string stem_;
  std::vector<Range> areas_;
};

}  // namespace

std::string lasting_path(const std::string& device) {
  const std::string name = lasting_name(device);
  if (!name.empty()) return "/dev/disk/by-id/" + name;
  return std::filesystem::absolute(device).lexically_normal().string();
}

void lay_out(DiskMap& map, const VolumeTable& table) {
  Laying(map, table).run();
}

bool DiskMap::shares_device() const {
  std::vector<std::string> devices;
  for (const MapExtent& extent : extents)
    if (extent.kind == MapExtent::Kind::device) devices.push_back(extent.file);
  std::sort(devices.begin(), devices.end());
  return std::adjacent_find(devices.begin(), devices.end()) != devices.end();
}

}  // namespace lantern
