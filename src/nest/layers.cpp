#include <map>

#include "lantern/nest.h"

namespace lantern {
namespace {

using Places = std::vector<LayeredExtent::Place>;

class Follower {
 public:
  Follower(const Target& target, const std::function<bool(const LayeredExtent&)>& visit)
      : visit_(visit) {
    // Outermost last: of two layers that are the same bytes the nearer is named first.
    for (auto disk = target.disks.rbegin(); disk != target.disks.rend(); ++disk) {
      if (disk == target.disks.rbegin() && target.volume)
        names_[target.volume_view().bytes.get()].push_back(target.volume_view().address.print());
      for (const VolumeView& volume : disk->volumes)
        if (disk != target.disks.rbegin())
          names_[volume.bytes.get()].push_back(volume.address.print());
      auto& flat = names_[disk->container.flat.get()];
      const bool contained = disk->container.flat != disk->file;
      flat.push_back(disk->address.print() + (contained ? " (the disk)" : ""));
      if (contained) names_[disk->file.get()].push_back(disk->address.print() + " (as it lies)");
    }
  }

  bool follow(const Extent& extent, Range content, Places places) const {
    if (!extent.below) return visit_({{extent.kind, content, nullptr, 0, extent.how}, places});
    add(places, extent.below.get(), extent.below_offset);
    if (extent.kind != ExtentKind::direct && extent.kind != ExtentKind::overlaid)
      return visit_(
          {{extent.kind, content, extent.below, extent.below_offset, extent.how}, places});
    bool going = true;
    extent.below->extents({extent.below_offset, content.length}, [&](const Extent& inner) {
      const Range part{content.offset + (inner.range.offset - extent.below_offset),
                       inner.range.length};
      Places own = places;
      for (LayeredExtent::Place& place : own)
        place.offset_bytes += inner.range.offset - extent.below_offset;
      going = follow(inner, part, std::move(own));
      return going;
    });
    return going;
  }

 private:
  void add(Places& places, const ByteSource* source, std::uint64_t offset) const {
    const auto found = names_.find(source);
    if (found == names_.end()) return;
    for (const std::string& name : found->second) places.push_back({name, offset});
  }

  const std::function<bool(const LayeredExtent&)>& visit_;
  std::map<const ByteSource*, std::vector<std::string>> names_;
};

}  // namespace

void follow_down(const Target& target, const ByteSource& content,
                 const std::function<bool(const LayeredExtent&)>& visit) {
  target.disk();  // is there
  const Follower follower(target, visit);
  content.extents({0, content.size()},
                  [&](const Extent& extent) { return follower.follow(extent, extent.range, {}); });
}

}  // namespace lantern
