#include "volume/lvm/occupied.h"

#include <map>
#include <set>
#include <string>
#include <vector>

#include "base/checked.h"
#include "base/range_set.h"

namespace lantern::lvm {
namespace {

using Runs = std::map<std::string, std::vector<Range>>;

// Follows a volume down to physical volumes; one that is made of itself ends where it began.
class Walk {
 public:
  explicit Walk(const Group& group) : group_(group) {}

  void volume(const Volume& volume) {
    if (!seen_.insert(volume.name).second) return;
    for (const Segment& segment : volume.segments) {
      const std::vector<Scalar>* areas = segment.values.list("stripes");
      const bool mirror = areas == nullptr;
      if (mirror) areas = segment.values.list("mirrors");
      if (areas != nullptr) each_area(*areas, segment.extents, mirror);
      for (const std::string_view key :
           {"raids", "raid0_lvs", "pool", "metadata", "data", "origin", "cow_store"})
        for (const std::string& name : segment.values.texts(key))
          if (const Volume* const part = group_.volume(name)) this->volume(*part);
    }
  }

  Runs take() { return std::move(runs_); }

 private:
  void each_area(const std::vector<Scalar>& areas, std::uint64_t extents, bool mirror) {
    const std::size_t count = areas.size() / 2;
    if (count == 0) return;
    for (std::size_t i = 0; i < count; ++i) {
      const std::string& name = areas[2 * i].text;
      const auto first = areas[2 * i + 1].number;
      if (const PhysicalVolume* const pv = group_.physical_volume(name); pv != nullptr && first)
        runs_[pv->id].push_back({*first, mirror ? extents : extents / count});
      else if (const Volume* const part = group_.volume(name))
        volume(*part);
    }
  }

  const Group& group_;
  std::set<std::string> seen_;
  Runs runs_;
};

Runs runs_of(const Group& group, const Volume& volume) {
  Walk walk(group);
  walk.volume(volume);
  return walk.take();
}

}  // namespace

Reuse reused(const Group& before, const Volume& then, const Group& now) {
  std::map<std::string, RangeSet> taken;
  for (const Volume& volume : now.volumes) {
    if (volume.id == then.id) continue;
    for (const auto& [pv, runs] : runs_of(now, volume))
      for (const Range& run : runs) taken[pv].add(run);
  }
  for (auto& [pv, ranges] : taken) ranges.settle();
  Reuse reuse;
  for (const auto& [pv, runs] : runs_of(before, then))
    for (const Range& run : runs) {
      reuse.of += run.length;
      const auto known = taken.find(pv);
      if (known == taken.end()) continue;
      known->second.parts(run, [&](Range part, bool claimed) {
        if (claimed) reuse.extents += part.length;
      });
    }
  return reuse;
}

std::vector<Beginning> beginnings_on(const PhysicalVolume& physical, const Group& group) {
  std::vector<Beginning> found;
  for (const Volume& volume : group.volumes) {
    if (volume.segments.empty() || volume.segments.front().start_extent != 0) continue;
    for (const std::string_view key : {"stripes", "mirrors"}) {
      const std::vector<Scalar>* const areas = volume.segments.front().values.list(key);
      // Of stripes the first begins the volume, of a mirror each.
      for (std::size_t i = 0; areas != nullptr && i + 1 < areas->size(); i += 2) {
        const auto extent = (*areas)[i + 1].number;
        if ((*areas)[i].text != physical.name || !extent || *extent > physical.extents) continue;
        const auto place = checked_mul(*extent, group.extent_bytes);
        const auto at = place ? checked_add(*place, physical.data_offset) : std::nullopt;
        if (at && (i == 0 || key == "mirrors")) found.push_back({volume.name, *at});
      }
    }
  }
  return found;
}

}  // namespace lantern::lvm
