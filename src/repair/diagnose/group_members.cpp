// Labels and headers of the metadata areas of LVM physical volumes (layout: volume/lvm/header.h),
// from the description of the group that another area or the ring of texts still has.
#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "repair/diagnose/set_diagnosis.h"
#include "volume/lvm/header.h"
#include "volume/lvm/occupied.h"
#include "volume/lvm/rebuild.h"

namespace lantern::repair {
namespace {

using lvm::MetadataArea;
using lvm::MetadataText;
using lvm::PhysicalVolume;
using lvm::PvHeader;

constexpr std::size_t kIdLetters = 32;

struct Part {
  std::string address;
  SourcePtr bytes;
  PvHeader header;
};

// The description that counts, as it is written.
struct Newest {
  std::string text;
  lvm::Group group;
  bool current = false;  // the header of an area leads to it
};

class GroupMembers {
 public:
  explicit GroupMembers(const SetDiagnosis& of) : of_(of) {}

  void run() {
    for (std::size_t i = 0; i < of_.set.members.size(); ++i) {
      parts_.push_back({of_.set.set.members[i].address, own_bytes(of_.set.members[i]), {}});
      if (parts_.back().bytes)
        parts_.back().header = lvm::read_header(*parts_.back().bytes, true, of_.context);
    }
    find_newest();
    if (!newest_ || newest_->group.physical.size() > parts_.size()) return;
    for (std::size_t i = 0; i < newest_->group.physical.size(); ++i) {
      const PhysicalVolume& wanted = newest_->group.physical[i];
      // An id that can be no label's is damage of the text.
      if (wanted.id.size() != kIdLetters || of_.set.set.members[i].id != wanted.id) continue;
      if (of_.set.set.members[i].state == MemberState::active && parts_[i].bytes) {
        label(wanted, parts_[i]);
        area(wanted, parts_[i]);
      } else if (of_.set.set.members[i].state == MemberState::missing) {
        find(wanted);
      }
    }
  }

 private:
  void find_newest() {
    for (const Part& part : parts_)
      for (const MetadataArea& area : part.header.areas)
        for (const MetadataText& text : area.texts) {
          auto group = lvm::read_group(text.text);
          if (!group || group->id != of_.set.set.uuid) continue;
          highest_ = std::max(highest_, group->number);
          const bool current = text.current && !area.ignored;
          if (newest_ && std::pair(newest_->current, newest_->group.number) >=
                             std::pair(current, group->number))
            continue;
          newest_ = {text.text, std::move(*group), current};
        }
  }

  RepairStep step_for(const char* code, const PhysicalVolume& wanted, const char* what) const {
    RepairStep step;
    step.code = code;
    step.part = fmt::format("{} of {}", code, wanted.id);
    step.what = fmt::format("{} of physical volume {} of {} is rebuilt", what,
                            for_terminal(wanted.name), name_of(of_.set));
    return step;
  }

  void add(RepairStep step) {
    if (!step.writes.empty()) of_.diagnosis.steps.push_back(std::move(step));
  }

  static void change(RepairStep& step, const Part& part, std::uint64_t at, ByteView after) {
    add_changes(step, part.address, at, read_bytes(*part.bytes, at, after.size()), after);
  }

  // What the labels of the others say of the size of their areas.
  std::uint64_t area_bytes_of(const PhysicalVolume& wanted, const Part& part) const {
    for (const MetadataArea& area : part.header.areas)
      if (area.place == lvm::kUsualAreaAt && area.header_is_right) return area.bytes;
    const Bytes own = read_bytes(*part.bytes, part.header.label, kSector);
    if (part.header.label_is_right) return lvm::area_bytes_in(own);
    for (std::size_t i = 0; i < newest_->group.physical.size(); ++i)
      if (const std::uint64_t bytes = lvm::area_bytes_in(label_of(parts_[i]));
          bytes != 0 && newest_->group.physical[i].data_offset == wanted.data_offset)
        return bytes;
    return wanted.data_offset > lvm::kUsualAreaAt ? wanted.data_offset - lvm::kUsualAreaAt : 0;
  }

  static Bytes label_of(const Part& part) {
    return part.bytes && part.header.label_is_right
               ? read_bytes(*part.bytes, part.header.label, kSector)
               : Bytes();
  }

  Bytes any_label() const {
    for (const Part& part : parts_)
      if (Bytes label = label_of(part); !label.empty()) return label;
    return {};
  }

  void store_label(RepairStep& step, const PhysicalVolume& wanted, const Part& part) const {
    change(step, part, lvm::kLabelAt,
           lvm::label_for(wanted, area_bytes_of(wanted, part), any_label()));
  }

  void label(const PhysicalVolume& wanted, const Part& part) {
    if (part.header.label_is_right && part.header.id == wanted.id) return;
    if (part.header.label != 0 && part.header.label != lvm::kLabelAt) return;
    RepairStep step = step_for("lvm.label", wanted, "the label");
    step.certainty = Certainty::certain;
    step.evidence =
        part.header.id == wanted.id
            ? "its checksum is wrong; the group's description says what it has to say"
            : "the disk holds a description of the group, and is the only physical volume of it "
              "without a label; the description says what it has to say";
    store_label(step, wanted, part);
    add(std::move(step));
  }

  // The text's place in an area; where it is not in it, that for a text of its own.
  struct Place {
    std::uint64_t at = 0;
    bool is_there = false;
  };
  Place place_in(const MetadataArea* area) const {
    if (area != nullptr)
      for (const MetadataText& text : area->texts)
        if (text.text == newest_->text) return {text.place - area->place, true};
    return {kSector, false};
  }

  void area(const PhysicalVolume& wanted, const Part& part) {
    const MetadataArea* own = nullptr;
    for (const MetadataArea& area : part.header.areas) {
      // One that leads to a description, or is not used, is none that is lost.
      if (area.ignored || std::any_of(area.texts.begin(), area.texts.end(),
                                      [](const MetadataText& text) { return text.current; }))
        return;
      if (area.place == lvm::kUsualAreaAt) own = &area;
    }
    // A label may say that there is none.
    if (own == nullptr && part.header.label_is_right && lvm::area_bytes_in(label_of(part)) == 0)
      return;
    RepairStep step = step_for("lvm.metadata", wanted, "the header of the metadata area");
    const bool sure = newest_->current && newest_->group.number == highest_;
    step.certainty = sure ? Certainty::certain : Certainty::likely;
    step.evidence =
        newest_->current
            ? fmt::format("another physical volume has the description of the group, number {}{}",
                          newest_->group.number,
                          sure ? "" : "; one of a higher number is left in the areas as well")
            : fmt::format(
                  "the newest description of the group that is left in the areas is "
                  "number {}; whether it was finished nothing says",
                  newest_->group.number);
    store_area(step, wanted, part, own);
    add(std::move(step));
  }

  void store_area(RepairStep& step, const PhysicalVolume& wanted, const Part& part,
                  const MetadataArea* own) const {
    const std::uint64_t bytes = area_bytes_of(wanted, part);
    const Place place = place_in(own);
    const std::size_t length = newest_->text.size() + 1;
    // It ends before the first extent, and that lies on the disk.
    if (wanted.data_offset < lvm::kUsualAreaAt || wanted.data_offset > part.bytes->size() ||
        bytes > wanted.data_offset - lvm::kUsualAreaAt || bytes < 2 * kSector ||
        length > bytes - 2 * kSector)
      return;
    change(step, part, lvm::kUsualAreaAt,
           lvm::area_header(lvm::kUsualAreaAt, bytes, newest_->text, place.at));
    if (place.is_there) return;
    Bytes text((length + kSector - 1) / kSector * kSector);
    std::transform(newest_->text.begin(), newest_->text.end(), text.begin(),
                   [](char c) { return static_cast<std::byte>(c); });
    change(step, part, lvm::kUsualAreaAt + place.at, text);
  }

  // One without a label of its own and without the header of its area: what else is in it tells.
  void find(const PhysicalVolume& wanted) {
    if (wanted.missing) return;
    std::vector<Part> fits;
    RepairStep step = step_for("lvm.label", wanted, "the label and the metadata area");
    for (const VolumePtr& volume : unclaimed(of_.all, "lvm", false)) {
      const SourcePtr bytes = own_bytes(volume);
      if (!bytes || bytes->size() != wanted.device_bytes) continue;
      const std::uint64_t area =
          wanted.data_offset - std::min(wanted.data_offset, lvm::kUsualAreaAt);
      Part part{volume->address.print(), bytes, lvm::read_header(*bytes, true, of_.context, area)};
      const std::string begins = what_begins_in(bytes, wanted);
      if (is_only_missing(wanted) && has_description(part)) {
        step.certainty = Certainty::certain;
        step.evidence =
            "descriptions of the group lie in it, and it has the size of the only "
            "physical volume that is missing";
      } else if (!begins.empty()) {
        step.certainty = Certainty::likely;
        step.evidence = begins;
      } else {
        of_.diagnosis.notes.emplace_back(fmt::format(
            "{}: {} has the size of physical volume {}, and nothing in it proves that it is",
            name_of(of_.set), part.address, for_terminal(wanted.name)));
        continue;
      }
      fits.push_back(std::move(part));
    }
    if (fits.size() > 1)
      of_.diagnosis.notes.emplace_back(
          fmt::format("{}: {} sources fit the place of physical volume {}: name only the one "
                      "that it is",
                      name_of(of_.set), fits.size(), for_terminal(wanted.name)));
    if (fits.size() != 1) return;
    const auto& areas = fits.front().header.areas;
    store_label(step, wanted, fits.front());
    store_area(step, wanted, fits.front(), areas.empty() ? nullptr : &areas.front());
    add(std::move(step));
  }

  bool is_only_missing(const PhysicalVolume& wanted) const {
    for (std::size_t i = 0; i < newest_->group.physical.size(); ++i)
      if (of_.set.set.members[i].state == MemberState::missing &&
          newest_->group.physical[i].id != wanted.id)
        return false;
    return true;
  }

  bool has_description(const Part& part) const {
    for (const MetadataArea& area : part.header.areas)
      for (const MetadataText& text : area.texts)
        if (const auto group = lvm::read_group(text.text);
            group && group->id == of_.set.set.uuid && group->number == newest_->group.number)
          return true;
    return false;
  }

  std::string what_begins_in(const SourcePtr& bytes, const PhysicalVolume& wanted) const {
    for (const lvm::Beginning& one : lvm::beginnings_on(wanted, newest_->group)) {
      of_.context.check_cancelled();
      if (one.place >= bytes->size()) continue;
      const SourcePtr window = make_window(bytes, {one.place, bytes->size() - one.place});
      for (const Recognition& found : known_formats().recognise(*window))
        if (found.verified && found.range.offset == 0)
          return fmt::format("its size is that of it, and {} begins where {} does on it",
                             found.title, for_terminal(one.volume));
    }
    return {};
  }

  const SetDiagnosis& of_;
  std::vector<Part> parts_;  // as the set's members
  std::optional<Newest> newest_;
  std::uint64_t highest_ = 0;  // number of a description, finished or not
};

}  // namespace

void diagnose_group(const SetDiagnosis& of) {
  GroupMembers(of).run();
}

}  // namespace lantern::repair
