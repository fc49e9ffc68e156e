#include "volume/lvm/assemble.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <memory>
#include <optional>
#include <set>

#include "lantern/error.h"
#include "lantern/text.h"
#include "source/no_writes.h"
#include "volume/lvm/header.h"
#include "volume/lvm/occupied.h"
#include "volume/lvm/snapshot.h"
#include "volume/lvm/volumes.h"

namespace lantern::lvm {
namespace {

// A description of a group, and where it was read.
struct Description {
  Group group;
  std::size_t member = 0;
  bool current = false;
};

struct Read {
  Member member;
  PvHeader header;
};

// What all descriptions of one group have in common: the sources.
struct Sources {
  std::vector<Read> all;
  std::vector<Description> descriptions;  // of the group, the newest first
  Context context;
};

bool is_newer(const Description& a, const Description& b) {
  return std::pair(a.group.number, a.current) > std::pair(b.group.number, b.current);
}

class Assembly {
 public:
  Assembly(std::shared_ptr<const Sources> sources, std::size_t number)
      : sources_(std::move(sources)),
        number_(number),
        group_(sources_->descriptions[number].group) {}

  SpannedSet run() {
    set_.format = "lvm";
    set_.name = group_.name;
    set_.uuid = group_.id;
    place_members();
    add_volumes();
    set_.state = SetState::complete;
    for (const SpanMember& member : set_.members)
      if (member.state == MemberState::missing) set_.state = SetState::degraded;
    for (const SpannedVolume& volume : set_.volumes)
      if (!volume.hidden && volume.state >= SetState::incomplete) set_.state = SetState::incomplete;
    const auto shown = static_cast<std::size_t>(
        std::count_if(set_.volumes.begin(), set_.volumes.end(),
                      [](const SpannedVolume& volume) { return !volume.hidden; }));
    set_.detail = fmt::format("{} of {}, {}, extents of {}", there_,
                              counted(group_.physical.size(), "physical volume"),
                              counted(shown, "volume"), human_size(group_.extent_bytes));
    return std::move(set_);
  }

 private:
  // `address`: of a member; empty: of the group.
  void report(FindingCode code, Severity severity, std::string what, std::string done,
              std::string address = {}) {
    set_.findings.push_back(
        {code, severity, std::move(address), {}, std::move(what), std::move(done)});
  }

  // Those whose label is lost are known by what else fits: they hold this group's text, and its
  // size is that of one physical volume that nothing else is.
  std::optional<std::size_t> without_label(const PhysicalVolume& wanted) const {
    std::optional<std::size_t> only;
    for (std::size_t i = 0; i < sources_->all.size(); ++i) {
      const Read& one = sources_->all[i];
      if (!has_lost_label(one) || !holds_group(i)) continue;
      if (one.member.bytes->size() < wanted.device_bytes) continue;
      const bool taken = std::any_of(
          set_.members.begin(), set_.members.end(),
          [&](const SpanMember& member) { return member.address == one.member.address; });
      if (taken) continue;
      if (only) return std::nullopt;
      only = i;
    }
    return only;
  }

  // A damaged label may name no physical volume that there is.
  bool has_lost_label(const Read& one) const {
    const auto is_its = [&](const PhysicalVolume& pv) { return pv.id == one.header.id; };
    return one.header.id.empty() ||
           (!one.header.label_is_right &&
            std::none_of(group_.physical.begin(), group_.physical.end(), is_its));
  }

  bool holds_group(std::size_t member) const {
    return std::any_of(sources_->descriptions.begin(), sources_->descriptions.end(),
                       [&](const Description& one) { return one.member == member; });
  }

  void place_members() {
    for (const PhysicalVolume& wanted : group_.physical) {
      SpanMember row;
      row.id = wanted.id;
      row.slot = static_cast<std::uint32_t>(physical_.size());
      row.state = MemberState::missing;
      row.detail = fmt::format("{}, {}", wanted.name, human_size(wanted.device_bytes));
      if (!wanted.device.empty()) row.detail += ", was " + for_terminal(wanted.device);
      SourcePtr source;
      for (const Read& one : sources_->all) {
        if (one.header.id != wanted.id) continue;
        if (source) {
          report(FindingCode::array_slot_twice, Severity::warning,
                 fmt::format("two sources are physical volume {}: {} and {}", wanted.name,
                             row.address, one.member.address),
                 fmt::format("{} is left out", one.member.address), one.member.address);
          twice_.push_back(one.member.address);
          continue;
        }
        source = one.member.bytes;
        row.address = one.member.address;
      }
      by_label_ += source ? 1u : 0u;
      physical_.push_back(source);
      set_.members.push_back(std::move(row));
    }
    for (std::size_t i = 0; i < physical_.size(); ++i) {
      SpanMember& row = set_.members[i];
      if (!physical_[i] && lost_labels() == 1 && by_label_ + 1 == physical_.size())
        if (const auto found = without_label(group_.physical[i])) {
          physical_[i] = sources_->all[*found].member.bytes;
          row.address = sources_->all[*found].member.address;
          report(FindingCode::lvm_label, Severity::damage,
                 fmt::format("the label of physical volume {} is lost", group_.physical[i].name),
                 "it is known by the group it describes: the only one that was missing",
                 row.address);
        }
      if (physical_[i]) {
        row.state = MemberState::active;
        ++there_;
      }
    }
    for (const std::string& address : twice_) {
      SpanMember row;
      row.address = address;
      row.state = MemberState::twice;
      set_.members.push_back(std::move(row));
    }
    std::string missing;
    for (const SpanMember& member : set_.members)
      if (member.state == MemberState::missing)
        missing += (missing.empty() ? "" : "; ") + member.detail;
    if (!missing.empty())
      report(FindingCode::lvm_member_missing, Severity::warning,
             "a physical volume is not among the sources: " + missing,
             "what lies on it alone is treated as unreadable");
  }

  std::size_t lost_labels() const {
    std::size_t count = 0;
    for (std::size_t i = 0; i < sources_->all.size(); ++i)
      count += has_lost_label(sources_->all[i]) && holds_group(i) ? 1u : 0u;
    return count;
  }

  void add_volumes() {
    Volumes volumes(group_, physical_, sources_->context);
    const std::set<std::string> parts = parts_of_others();
    for (const Volume& one : group_.volumes) {
      // What only says that one volume is a snapshot of another is no volume.
      if (!one.segments.empty() && one.segments.front().type == "snapshot") continue;
      sources_->context.check_cancelled();
      Opened opened = volumes.open(one.name);
      const Segment* const as_snapshot = snapshot_in(one.name);
      if (as_snapshot != nullptr) through_snapshot(*as_snapshot, volumes, opened);
      if (opened.bytes && has_snapshot(one.name))
        opened.bytes = without_writes(
            opened.bytes,
            "nothing is written to the volume: it has a snapshot, which would change with it",
            {"repair a copy of it: ", Do::image, " makes one"});
      if (number_ > 0) report_reuse(one, opened);
      SpannedVolume volume;
      volume.name = one.name;
      volume.uuid = one.id;
      volume.type = opened.type;
      volume.bytes = opened.bytes;
      volume.why_not = opened.why_not;
      volume.state = opened.bytes ? opened.state : SetState::unusable;
      // The store of a snapshot is shown as that.
      volume.hidden = (!one.visible && as_snapshot == nullptr) || parts.contains(one.name);
      volume.is_pool = !one.segments.empty() && one.segments.front().type == "thin-pool";
      volume.copies = std::move(opened.copies);
      volume.tags = one.tags;
      volume.findings = std::move(opened.findings);
      volume.from.assign(opened.from.begin(), opened.from.end());
      set_.volumes.push_back(std::move(volume));
    }
  }

  std::set<std::string> parts_of_others() const {
    std::set<std::string> parts;
    for (const Volume& one : group_.volumes)
      for (const Segment& segment : one.segments)
        for (const std::string_view key : {"stripes", "mirrors", "raids", "raid0_lvs"})
          for (const std::string& name : segment.values.texts(key))
            if (group_.volume(name) != nullptr) parts.insert(name);
    return parts;
  }

  // Of a volume in an older description, what others have taken since.
  void report_reuse(const Volume& then, Opened& opened) const {
    const Reuse reuse = reused(group_, then, sources_->descriptions.front().group);
    if (reuse.extents == 0) return;
    opened.findings.push_back(
        {FindingCode::lvm_volume,
         Severity::damage,
         {},
         {},
         fmt::format("{} of its {} belong to other volumes now", reuse.extents,
                     counted(reuse.of, "extent")),
         "they are read as they are: what is in them is most likely not its own"});
  }

  bool has_snapshot(const std::string& origin) const {
    return std::any_of(group_.volumes.begin(), group_.volumes.end(), [&](const Volume& one) {
      return std::any_of(one.segments.begin(), one.segments.end(), [&](const Segment& segment) {
        return segment.type == "snapshot" && segment.values.text("origin") == origin;
      });
    });
  }

  const Segment* snapshot_in(const std::string& store) const {
    for (const Volume& one : group_.volumes)
      for (const Segment& segment : one.segments)
        if (segment.type == "snapshot" && segment.values.text("cow_store") == store)
          return &segment;
    return nullptr;
  }

  void through_snapshot(const Segment& segment, Volumes& volumes, Opened& opened) const {
    const std::string name = segment.values.text("origin");
    const Opened& origin = volumes.open(name);
    opened.type = "snapshot of " + for_terminal(name);
    opened.from.insert(origin.from.begin(), origin.from.end());
    opened.state = std::max(opened.state, origin.state);
    if (!opened.bytes || !origin.bytes) {
      if (opened.bytes) opened.why_not = "its origin cannot be opened: " + origin.why_not;
      opened.bytes = nullptr;
      return;
    }
    Context own = sources_->context;
    own.findings = std::make_shared<FindingSink>();
    try {
      opened.bytes = open_snapshot(origin.bytes, opened.bytes, own);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      opened.bytes = nullptr;
      opened.why_not = error.line();
    }
    for (Finding& finding : own.findings->all()) opened.findings.push_back(std::move(finding));
  }

  std::shared_ptr<const Sources> sources_;
  std::size_t number_;  // of the description; 0: the newest
  const Group& group_;
  std::vector<SourcePtr> physical_;  // as the group's
  std::size_t there_ = 0, by_label_ = 0;
  std::vector<std::string> twice_;
  SpannedSet set_;
};

bool is_member(const SpannedSet& set, const std::string& address) {
  return std::any_of(set.members.begin(), set.members.end(), [&](const SpanMember& member) {
    return member.address == address && member.state == MemberState::active;
  });
}

// Copies that do not say the same, and those that cannot be used.
void report_copies(const Sources& sources, SpannedSet& set) {
  const Description& newest = sources.descriptions.front();
  const auto report = [&](FindingCode code, Severity severity, std::string what, std::string done,
                          std::string address = {}) {
    set.findings.push_back(
        {code, severity, std::move(address), {}, std::move(what), std::move(done)});
  };
  if (!newest.current)
    report(FindingCode::lvm_metadata, Severity::damage,
           "no header of a metadata area leads to a description of the group",
           fmt::format("the newest that is left in the areas is used: number {}",
                       newest.group.number));
  for (std::size_t i = 0; i < sources.all.size(); ++i) {
    const Read& one = sources.all[i];
    std::optional<std::uint64_t> own;
    bool any = false;
    for (const Description& description : sources.descriptions) {
      if (description.member != i) continue;
      any = true;
      if (description.current) own = std::max(own.value_or(0), description.group.number);
    }
    if (any && !one.header.id.empty() && !one.header.label_is_right)
      report(FindingCode::lvm_label, Severity::damage, "the label's checksum is wrong",
             "it is used as it is", one.member.address);
    if (any && own && *own < newest.group.number)
      report(FindingCode::lvm_metadata, Severity::warning,
             fmt::format("describes the group as number {}, others as number {}", *own,
                         newest.group.number),
             "the newest is used", one.member.address);
    const bool has_area = std::any_of(one.header.areas.begin(), one.header.areas.end(),
                                      [](const MetadataArea& area) { return !area.ignored; });
    if (has_area && !own && newest.current && is_member(set, one.member.address))
      report(FindingCode::lvm_metadata, Severity::damage,
             any ? "the header of its metadata area is damaged"
                 : "its metadata area holds no description of the group",
             "the description on another physical volume is used", one.member.address);
  }
}

std::vector<SetVersion> versions_of(const Sources& sources) {
  std::vector<SetVersion> versions;
  const Group& newest = sources.descriptions.front().group;
  for (std::size_t i = 1; i < sources.descriptions.size(); ++i) {
    const Group& then = sources.descriptions[i].group;
    if (then.number == sources.descriptions[i - 1].group.number) continue;
    SetVersion version{std::to_string(then.number), then.written, then.description, {}};
    for (const Volume& volume : then.volumes) {
      const bool left = std::any_of(newest.volumes.begin(), newest.volumes.end(),
                                    [&](const Volume& now) { return now.id == volume.id; });
      if (!left && volume.visible) version.removed.push_back(volume.name);
    }
    versions.push_back(std::move(version));
  }
  return versions;
}

SpannedSet assemble_one(const std::shared_ptr<const Sources>& sources) {
  SpannedSet set = Assembly(sources, 0).run();
  report_copies(*sources, set);
  set.versions = versions_of(*sources);
  set.open_version = [sources](const std::string& id) {
    for (std::size_t i = 0; i < sources->descriptions.size(); ++i)
      if (std::to_string(sources->descriptions[i].group.number) == id)
        return Assembly(sources, i).run();
    throw Error(ErrorCode::not_found, {}, std::nullopt,
                fmt::format("the group has no description number {}", for_terminal(id)),
                {Do::survey, " lists those there are"});
  };
  return set;
}

}  // namespace

std::vector<SpannedSet> assemble(const std::vector<Member>& members, const Context& context) {
  std::vector<Read> all;
  std::map<std::string, std::vector<Description>> groups;  // by id
  for (const Member& member : members) {
    context.check_cancelled();
    all.push_back({member, read_header(*member.bytes, true, context)});
    for (const MetadataArea& area : all.back().header.areas)
      for (const MetadataText& text : area.texts)
        if (auto group = read_group(text.text)) {
          const std::string id = group->id;
          groups[id].push_back({std::move(*group), all.size() - 1, text.current && !area.ignored});
        }
  }
  std::vector<SpannedSet> sets;
  for (auto& [id, descriptions] : groups) {
    std::stable_sort(descriptions.begin(), descriptions.end(), is_newer);
    // A text that no header leads to yet was not finished.
    const auto current = std::find_if(descriptions.begin(), descriptions.end(),
                                      [](const Description& one) { return one.current; });
    if (current != descriptions.end()) descriptions.erase(descriptions.begin(), current);
    auto sources = std::make_shared<Sources>(Sources{all, std::move(descriptions), context});
    sets.push_back(assemble_one(sources));
  }
  return sets;
}

}  // namespace lantern::lvm
