#include "repair/grow/lvm_growth.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/grow/refusals.h"
#include "volume/lvm/edit.h"
#include "volume/lvm/group.h"
#include "volume/lvm/header.h"
#include "volume/lvm/rebuild.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxExtents = 0xFFFFFFFF;

using lvm::Group;
using lvm::MetadataArea;
using lvm::PvHeader;

// The group that the target is a volume of, and that volume's place among its own.
std::pair<const SpannedSets::Set*, std::size_t> group_of(const Target& target) {
  if (target.sets && target.volume)
    for (const SpannedSets::Set& set : target.sets->sets)
      for (std::size_t i = 0; i < set.volumes.size() && set.set.format == "lvm"; ++i)
        if (set.volumes[i] && set.volumes[i]->address.print() == target.volume->address.print())
          return {&set, i};
  not_yet(target, "it is no volume of an LVM group as that is now");
}

class LvmGrowth {
 public:
  LvmGrowth(const Target& target, std::string member, const Context& context)
      : target_(target), member_(std::move(member)), context_(context) {}

  RepairStep run() {
    const auto [set, index] = group_of(target_);
    if (set->set.state != SetState::complete)
      refuse(target_, "not every physical volume of its group is here", "name them with --with");
    set_ = set;
    for (const LayerPtr& layer : set->members) {
      const auto* const volume = dynamic_cast<const VolumeLayer*>(layer.get());
      const SourcePtr bytes = volume != nullptr ? volume->content() : layer->bytes;
      members_.push_back(
          {layer->address.print(), bytes, lvm::read_header(*bytes, false, context_)});
    }
    read_description();
    const std::string name = set->set.volumes[index].name;
    const lvm::Volume* const volume = group_.volume(name);
    if (volume == nullptr) not_yet(target_, "its group describes it no more");
    check(*volume);
    RepairStep step;
    step.code = "grow.lvm";
    const std::uint64_t more = lengthen(*volume);
    if (more == 0) return step;
    write_all(step);
    step.what = fmt::format("volume {} of group {} gets {} more", for_terminal(name),
                            for_terminal(group_.name), human_size(more * group_.extent_bytes));
    step.evidence = fmt::format("physical volume {} has {} extents instead of {}",
                                for_terminal(physical_->name), extents_, physical_->extents);
    return step;
  }

 private:
  struct Member {
    std::string address;
    SourcePtr bytes;
    PvHeader header;
  };

  // One text, in every area that is used.
  void read_description() {
    for (const Member& member : members_) {
      if (!member.header.label_is_right) damaged();
      for (const MetadataArea& area : member.header.areas) {
        if (area.ignored) continue;
        const auto current = std::find_if(area.texts.begin(), area.texts.end(),
                                          [](const auto& text) { return text.current; });
        if (!area.header_is_right || current == area.texts.end()) damaged();
        if (text_.empty()) text_ = current->text;
        if (current->text != text_) damaged();
      }
    }
    auto group = lvm::read_group(text_);
    if (!group) damaged();
    group_ = std::move(*group);
    for (const Member& member : members_)
      for (const lvm::PhysicalVolume& one : group_.physical)
        if (member.address == member_ && member.header.id == one.id) {
          physical_ = &one;
          on_ = &member;
        }
    if (physical_ == nullptr || group_.extent_bytes == 0) damaged();
    for (const MetadataArea& area : on_->header.areas)
      if (area.place >= physical_->data_offset || area.bytes > physical_->data_offset - area.place)
        not_yet(target_, "its physical volume keeps a metadata area at its end");
  }
  [[noreturn]] void damaged() const {
    refuse(target_, "the metadata of its group is damaged", "repair it first");
  }

  void check(const lvm::Volume& volume) const {
    const auto parsed = lvm::parse_text(text_);
    const lvm::Section* const group = parsed ? parsed->section(group_.name) : nullptr;
    if (group == nullptr) damaged();
    for (const std::string& flag : group->texts("status"))
      if (flag == "EXPORTED" || flag == "CLUSTERED")
        refuse(target_, "its group is exported or shared", "import it in its own system first");
    const lvm::Section* const all = group->section("logical_volumes");
    const lvm::Section* const own = all == nullptr ? nullptr : all->section(volume.name);
    if (own == nullptr) damaged();
    for (const std::string& flag : own->texts("status"))
      if (flag == "LOCKED" || flag == "PVMOVE")
        refuse(target_, "it is being moved to another physical volume",
               "let its own system finish that first");
    for (const lvm::Segment& segment : volume.segments)
      if (segment.type != "striped" || segment.values.number("stripe_count") != 1u)
        not_yet(target_, fmt::format("a volume of this kind ({}) is not grown yet",
                                     for_terminal(segment.type)));
    for (const lvm::Volume& other : group_.volumes)
      for (const lvm::Segment& segment : other.segments)
        if (segment.values.text("origin") == volume.name)
          refuse(target_, "it has a snapshot, which is as large as it was",
                 "remove that in its own system first");
  }

  // The extent behind the last one that anything has on the physical volume.
  std::uint64_t first_free() const {
    std::uint64_t end = 0;
    for (const lvm::Volume& volume : group_.volumes)
      for (const lvm::Segment& segment : volume.segments)
        for (const auto& [key, list] : segment.values.values)
          for (std::size_t i = 0; i + 1 < list.size(); ++i)
            if (list[i].text == physical_->name && list[i + 1].number) {
              const std::uint64_t stripes =
                  key == "stripes" ? std::max<std::uint64_t>(list.size() / 2, 1) : 1;
              const std::uint64_t from = std::min(*list[i + 1].number, kMaxExtents);
              end = std::max(end, from + divide_up(segment.extents, stripes));
            }
    return end;
  }

  // How many extents it gets; the text with them.
  std::uint64_t lengthen(const lvm::Volume& volume) {
    const std::uint64_t bytes = on_->bytes->size();
    if (bytes < physical_->data_offset || bytes < physical_->device_bytes)
      refuse(target_, "its physical volume is cut", "look at it with lantern survey");
    extents_ = std::min((bytes - physical_->data_offset) / group_.extent_bytes, kMaxExtents);
    const std::uint64_t from = first_free();
    if (extents_ <= from) return 0;
    const std::uint64_t more = std::min(extents_ - from, kMaxExtents - volume.extents());
    const lvm::SectionPath group = {group_.name};
    const lvm::SectionPath physical = {group_.name, "physical_volumes", physical_->name};
    lvm::SectionPath own = {group_.name, "logical_volumes", volume.name};
    bool done = lvm::set_value(text_, group, "seqno", std::to_string(group_.number + 1)) &&
                lvm::set_value(text_, physical, "dev_size", std::to_string(bytes / kSector)) &&
                lvm::set_value(text_, physical, "pe_count", std::to_string(extents_));
    const lvm::Segment& last = volume.segments.back();
    const auto* const stripes = last.values.list("stripes");
    const std::string number = std::to_string(volume.segments.size());
    if (stripes != nullptr && stripes->size() == 2 && (*stripes)[0].text == physical_->name &&
        (*stripes)[1].number == from - last.extents) {
      own.push_back("segment" + number);
      done =
          done && lvm::set_value(text_, own, "extent_count", std::to_string(last.extents + more));
    } else {
      const std::string segment = fmt::format(
          "\n\t\t\tsegment{} {{\n\t\t\t\tstart_extent = {}\n\t\t\t\textent_count = {}\n\n"
          "\t\t\t\ttype = \"striped\"\n\t\t\t\tstripe_count = 1\n\n\t\t\t\tstripes = [\n"
          "\t\t\t\t\t\"{}\", {}\n\t\t\t\t]\n\t\t\t}}\n",
          volume.segments.size() + 1, volume.extents(), more, physical_->name, from);
      done =
          done &&
          lvm::set_value(text_, own, "segment_count", std::to_string(volume.segments.size() + 1)) &&
          lvm::append_lines(text_, own, segment);
    }
    const auto again = done ? lvm::read_group(text_) : std::nullopt;
    const lvm::Volume* const larger = again ? again->volume(volume.name) : nullptr;
    if (larger == nullptr || larger->extents() != volume.extents() + more ||
        again->number != group_.number + 1)
      not_yet(target_, "the description of its group is written in a way that is not understood");
    lvm::set_value(text_, {}, "description", "\"lantern grow\"");
    return more;
  }

  // The new text beside the old one in each area, then what leads to it; the label last.
  void write_all(RepairStep& step) const {
    Bytes text(text_.size() + 1);
    store_text(text, 0, text_);
    for (const Member& member : members_)
      for (const MetadataArea& area : member.header.areas)
        if (!area.ignored) change(step, member, area.place + room_in(area, text.size()), text);
    for (const Member& member : members_)
      for (const MetadataArea& area : member.header.areas)
        if (!area.ignored)
          change(step, member, area.place,
                 lvm::area_header(area.place, area.bytes, text_, room_in(area, text.size())));
    Bytes label = read_bytes(*on_->bytes, on_->header.label, kSector);
    if (!lvm::set_device_bytes(label, on_->bytes->size())) damaged();
    change(step, *on_, on_->header.label, label);
  }

  static void change(RepairStep& step, const Member& member, std::uint64_t at, const Bytes& after) {
    add_changes(step, member.address, at, read_bytes(*member.bytes, at, after.size()), after);
  }

  // Where in the ring: behind the current text, or at its start, and never on that.
  std::uint64_t room_in(const MetadataArea& area, std::uint64_t length) const {
    for (const lvm::MetadataText& text : area.texts) {
      if (!text.current) continue;
      const std::uint64_t own = text.place - area.place;
      // The text before this change is as long as the one that is there, and its zero.
      const std::uint64_t behind = divide_up(own + text.text.size() + 1, kSector) * kSector;
      if (behind + length <= area.bytes) return behind;
      if (kSector + length <= own) return kSector;
    }
    refuse(target_, "a metadata area of its group has no room for another description",
           "change its group with its own system's tools");
  }

  const Target& target_;
  std::string member_;
  const Context& context_;
  const SpannedSets::Set* set_ = nullptr;
  std::vector<Member> members_;
  std::string text_;
  Group group_;
  const lvm::PhysicalVolume* physical_ = nullptr;
  const Member* on_ = nullptr;
  std::uint64_t extents_ = 0;
};

}  // namespace

RepairStep grow_logical_volume(const Target& target, const std::string& member,
                               const Context& context) {
  return LvmGrowth(target, member, context).run();
}

LayerPtr member_to_grow(const Target& target) {
  const auto [set, index] = group_of(target);
  const std::string& disk = target.volume_layer().address.first;
  LayerPtr found;
  for (const std::size_t member : set->set.volumes[index].from)
    if (const LayerPtr& layer = set->members.at(member);
        layer && (layer->address.first == disk || !found))
      found = layer;
  if (!found) not_yet(target, "no physical volume that it lies on is here");
  return found;
}

}  // namespace lantern::repair
