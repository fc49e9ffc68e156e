#include <map>

#include "lantern/nest/target.h"
#include "source/resident_source.h"

namespace lantern {
namespace {

using Places = std::vector<LayeredExtent::Place>;

class Follower {
 public:
  Follower(const Target& target, const std::function<bool(const LayeredExtent&)>& visit)
      : visit_(visit) {
    const LayerPtr innermost = target.volume ? LayerPtr(target.volume) : target.disks.back();
    // Outermost last: of two layers that are the same bytes the nearer is named first.
    walk_layers(innermost, [&](const Layer& layer) {
      const std::string name = layer.address.print();
      if (const auto* disk = dynamic_cast<const ContainerLayer*>(&layer)) {
        const bool contained = disk->bytes != disk->file;
        names_[disk->bytes.get()].push_back(name + (contained ? " (the disk)" : ""));
        if (contained) names_[disk->file.get()].push_back(name + " (raw container file)");
      } else if (dynamic_cast<const VolumeLayer*>(&layer) != nullptr) {
        names_[layer.bytes.get()].push_back(name);
      }
      return true;
    });
  }

  bool follow(const Extent& extent, Range content, Places places) const {
    for (const ExtentInput& input : extent.inputs) add(places, input.source.get(), input.offset);
    const bool resident = extent.how == kResident;
    const bool goes_on =
        extent.kind == ExtentKind::direct || extent.kind == ExtentKind::overlaid || resident;
    const SourcePtr& below = extent.below().source;
    const std::uint64_t from = extent.below().offset;
    if (!below || !goes_on)
      return visit_({{extent.kind, content, extent.inputs, extent.how}, places});
    bool going = true;
    below->extents({from, content.length}, [&](const Extent& inner) {
      const Range part{content.offset + (inner.range.offset - from), inner.range.length};
      Places own = places;
      for (LayeredExtent::Place& place : own) place.offset_bytes += inner.range.offset - from;
      if (!resident) return going = follow(inner, part, std::move(own));
      // Its own word for it stays, whatever the layers below are made of.
      const std::function<bool(const LayeredExtent&)> keep = [&](const LayeredExtent& one) {
        LayeredExtent named = one;
        named.extent.kind = ExtentKind::derived;
        named.extent.how = extent.how;
        return visit_(named);
      };
      return going = Follower(names_, keep).follow(inner, part, std::move(own));
    });
    return going;
  }

 private:
  using Names = std::map<const ByteSource*, std::vector<std::string>>;
  Follower(const Names& names, const std::function<bool(const LayeredExtent&)>& visit)
      : visit_(visit), names_(names) {}

  void add(Places& places, const ByteSource* source, std::uint64_t offset) const {
    const auto found = names_.find(source);
    if (found == names_.end()) return;
    for (const std::string& name : found->second) places.push_back({name, offset});
  }

  const std::function<bool(const LayeredExtent&)>& visit_;
  Names names_;
};

}  // namespace

void follow_down(const Target& target, const ByteSource& content,
                 const std::function<bool(const LayeredExtent&)>& visit) {
  target.disk();  // is there
  if (target.volume) target.volume_layer();
  const Follower follower(target, visit);
  content.extents({0, content.size()},
                  [&](const Extent& extent) { return follower.follow(extent, extent.range, {}); });
}

}  // namespace lantern
