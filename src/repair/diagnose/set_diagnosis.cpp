#include "repair/diagnose/set_diagnosis.h"

#include <algorithm>
#include <filesystem>
#include <set>

#include "lantern/text.h"

namespace lantern::repair {

std::vector<const SpannedSets::Set*> sets_below(const Target& target) {
  std::vector<const SpannedSets::Set*> below;
  if (!target.sets) return below;
  std::set<std::string> under;
  const auto note = [&](const Layer& layer) {
    under.insert(layer.address.print());
    return true;
  };
  for (const DiskPtr& disk : target.disks) walk_layers(disk, note);
  walk_layers(target.volume, note);
  for (const SpannedSets::Set& one : target.sets->sets)
    if (std::any_of(one.volumes.begin(), one.volumes.end(), [&](const VolumePtr& volume) {
          return volume && under.contains(volume->address.print());
        }))
      below.push_back(&one);
  return below;
}

std::string name_of(const SpannedSets::Set& set) {
  return (set.set.format == "md" ? "array " : "group ") + for_terminal(set.name);
}

std::vector<VolumePtr> unclaimed(const SpannedSets& all, std::string_view format, bool with_files) {
  std::set<std::string> members;
  for (const SpannedSets::Set& one : all.sets)
    for (const SpanMember& member : one.set.members) members.insert(member.address);
  std::vector<VolumePtr> left;
  for (const DiskPtr& disk : all.disks)
    for (const VolumePtr& volume : disk->volumes.all()) {
      if (members.contains(volume->address.print())) continue;
      const auto& owner = volume->owner();
      const bool unknown = !owner || (owner->format == format && !owner->verified);
      if (volume->file_system() ? with_files : unknown) left.push_back(volume);
    }
  return left;
}

SourcePtr own_bytes(const LayerPtr& member) {
  if (!member) return nullptr;
  const auto* const volume = dynamic_cast<const VolumeLayer*>(member.get());
  return volume != nullptr && volume->content() != volume->bytes ? nullptr : member->bytes;
}

namespace {

// The sets among the disks that an address names before it goes into one of them; empty: it does
// not.
std::shared_ptr<const SpannedSets> sets_named_in(const Address& source, const Session& session) {
  const auto into = std::find_if(source.steps.begin(), source.steps.end(), [](const Step& step) {
    return step.kind == Step::Kind::array || step.kind == Step::Kind::logical_volume;
  });
  if (into == source.steps.end()) return nullptr;
  std::error_code error;
  const Address disks{source.first, {source.steps.begin(), into}};
  if (disks.steps.empty() && std::filesystem::is_directory(disks.first, error))
    return session.spanned_sets(disks);
  const Target target = session.open_disk(disks);
  return session.spanned_sets(target.disks.back()->address, target.disks);
}

}  // namespace

void diagnose_sets(const Target* target, const Address& source, const Session& session,
                   Diagnosis& diagnosis) {
  const auto sets = target != nullptr ? target->sets : sets_named_in(source, session);
  if (!sets) return;
  std::vector<const SpannedSets::Set*> below;
  if (target != nullptr)
    below = sets_below(*target);
  else
    for (const SpannedSets::Set& one : sets->sets) below.push_back(&one);
  for (const SpannedSets::Set* const one : below) {
    const SetDiagnosis of{*sets, *one, diagnosis, session.context()};
    if (one->set.format == "md") diagnose_array(of);
    if (one->set.format == "lvm") diagnose_group(of);
  }
}

}  // namespace lantern::repair
