#include "survey/sets.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "lantern/error.h"

namespace lantern::survey_parts {
namespace {

constexpr std::size_t kMaxRemoved = 100;  // of one group

}  // namespace

SurveySet describe_set(const SpannedSets::Set& one, const Address& base) {
  SurveySet set;
  set.id = one.set.uuid;
  set.format = one.set.format;
  set.name = one.name;
  const auto kind = one.set.format == "md" ? Step::Kind::array : Step::Kind::logical_volume;
  set.address = base.with({kind, 0, one.name, {}}).print();
  set.detail = one.set.detail;
  set.state = one.set.state;
  set.members = one.set.members;
  set.versions = one.set.versions;
  for (std::size_t i = 0; i < one.set.volumes.size(); ++i) {
    const SpannedVolume& volume = one.set.volumes[i];
    SurveySet::Volume row;
    if (one.volumes[i]) row.address = one.volumes[i]->address.print();
    row.name = volume.name;
    row.type = volume.type;
    row.why_not = volume.why_not;
    row.state = volume.state;
    row.hidden = volume.hidden;
    row.tags = volume.tags;
    set.volumes.push_back(std::move(row));
  }
  return set;
}

std::optional<SurveySet> describe_members(const std::string& id,
                                          const std::vector<SetMember>& members) {
  const Recognition& first = members.front().recognised;
  if (first.format == "md" || first.format == "lvm") return std::nullopt;
  SurveySet set;
  set.id = id;
  set.format = first.format;
  set.detail = first.title;
  set.state = SetState::unusable;
  for (const SetMember& member : members) {
    SpanMember row;
    row.address = member.address.print();
    row.slot = member.recognised.slot;
    set.members.push_back(std::move(row));
  }
  return set;
}

std::vector<VolumePtr> removed_volumes(const SpannedSets::Set& one, const Address& base,
                                       const Session& session) {
  std::vector<VolumePtr> removed;
  std::set<std::string> seen;  // names
  for (const SetVersion& version : one.set.versions)
    for (const std::string& name : version.removed) {
      if (removed.size() >= kMaxRemoved || !seen.insert(name).second) continue;
      const Address address = base.with({Step::Kind::logical_volume, 0, one.name, {}})
                                  .with({Step::Kind::version, 0, version.id, {}})
                                  .with({Step::Kind::logical_volume, 0, one.name + "/" + name, {}});
      try {
        removed.push_back(session.open(address).volume);
      } catch (const Error& error) {
        if (error.code() == ErrorCode::stopped) throw;
      }
    }
  return removed;
}

}  // namespace lantern::survey_parts
