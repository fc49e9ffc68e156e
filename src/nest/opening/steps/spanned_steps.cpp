#include "nest/opening/steps/spanned_steps.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "nest/opening/steps/array_by_hand.h"

namespace lantern {
namespace {

bool is_hidden(const SpannedSets::Set& set, std::size_t number) {
  return set.set.volumes[number].hidden;
}

std::string sets_there_are(const SpannedSets& sets) {
  std::string list;
  for (const SpannedSets::Set& one : sets.sets)
    for (std::size_t i = 0; i < one.volumes.size(); ++i)
      if (one.volumes[i] && !is_hidden(one, i))
        list += (list.empty() ? "; there are: " : ", ") +
                print_step(one.volumes[i]->address.steps.back());
  return list;
}

[[noreturn]] void fail_missing(const SpannedSets& sets, const Step& step, const Address& base) {
  const std::string there = sets_there_are(sets);
  throw Error(ErrorCode::not_found, base.print(), std::nullopt,
              fmt::format("there is no \"{}\" in these sources{}", print_step(step), there),
              there.empty() ? Advice{"name the other disks with ", Do::with, "; ", Do::survey,
                                     " shows what is there"}
                            : Advice{Do::survey, " shows what is there"});
}

// What a volume that cannot be opened is for want of.
std::string why_not(const SpannedSets& sets, const Step& step) {
  const std::string name = step.text.substr(step.text.find('/') + 1);
  for (const SpannedSets::Set& one : sets.sets)
    for (const SpannedVolume& volume : one.set.volumes)
      if (!volume.bytes && (volume.name == name || one.name == name || one.set.name == name))
        return volume.why_not;
  return "what it lies on is missing";
}

}  // namespace

VolumePtr spanned_volume(const SpannedSets& sets, const Step& step, const Address& base) {
  const std::vector<VolumePtr> found =
      step.kind == Step::Kind::array ? sets.arrays_named(step.text) : sets.volumes_named(step.text);
  if (found.empty()) fail_missing(sets, step, base);
  if (found.size() > 1) {
    std::string list;
    for (const VolumePtr& volume : found)
      if (volume) list += " " + volume->address.print();
    throw Error(ErrorCode::usage, base.print(), std::nullopt,
                fmt::format("{} answer to \"{}\":{}", found.size(), print_step(step), list),
                "name one of them by its UUID");
  }
  if (!found.front())
    throw Error(ErrorCode::cannot_read, base.print(), std::nullopt,
                fmt::format("\"{}\" cannot be opened: {}", print_step(step), why_not(sets, step)),
                {Do::survey, " shows its members"});
  return found.front();
}

SpannedSets::Set spanned_group(const SpannedSets& sets, const Step& step, const Address& base) {
  const auto groups = sets.groups_named(step.text);
  if (groups.size() == 1) return *groups.front();
  if (groups.empty()) fail_missing(sets, step, base);
  throw Error(ErrorCode::usage, base.print(), std::nullopt,
              fmt::format("{} groups have the name \"{}\"", groups.size(), for_terminal(step.text)),
              "name one of them by its UUID");
}

DiskPtr disk_under(const SpannedSets& sets, const VolumeLayer& volume) {
  for (const DiskPtr& disk : sets.disks) {
    bool of_it = false;
    const std::string own = disk->address.print();
    walk_layers(volume.shared_from_this(), [&](const Layer& layer) {
      of_it = of_it || layer.address.print() == own;
      return !of_it;
    });
    if (of_it) return disk;
  }
  return sets.disks.front();
}

DiskPtr disk_in(const VolumePtr& volume, const Session& session) {
  try {
    const DiskPtr disk = session.open_bytes(volume->content(), volume->address, {}, {volume});
    const bool has_table = disk->table.is_there() && !disk->table.rows.empty();
    return has_table || disk->container.format != "raw" ? disk : nullptr;
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return nullptr;
  }
}

std::vector<Target> spanned_targets(const std::shared_ptr<const SpannedSets>& sets,
                                    const Session& session) {
  std::vector<Target> targets;
  for (const SpannedSets::Set& one : sets->sets)
    for (std::size_t i = 0; i < one.volumes.size(); ++i) {
      const VolumePtr& volume = one.volumes[i];
      if (!volume || is_hidden(one, i) || one.set.volumes[i].is_pool) continue;
      Target target;
      target.disks = {disk_under(*sets, *volume)};
      target.sets = sets;
      if (const DiskPtr disk = disk_in(volume, session)) {
        target.disks.push_back(disk);
        for (const VolumePtr& inner : disk->volumes.all()) {
          target.volume = inner;
          if (inner->file_system()) targets.push_back(target);
        }
      } else if (volume->file_system()) {
        target.volume = volume;
        targets.push_back(std::move(target));
      }
    }
  return targets;
}

std::optional<Target> likely_spanned(const std::shared_ptr<const SpannedSets>& sets,
                                     const Session& session) {
  const std::vector<Target> targets = spanned_targets(sets, session);
  std::vector<VolumePtr> all;
  all.reserve(targets.size());
  for (const Target& target : targets) all.push_back(target.volume);
  const VolumeChoice choice = choose_volume(all, session.context());
  if (!choice.index) return std::nullopt;
  Target chosen = targets[*choice.index];
  chosen.chosen = chosen.volume->address.print();
  chosen.why = choice.why;
  return chosen;
}

// What has lost its superblock is not recognised as a disk: its name is enough.
std::vector<Address> stated_members(const ArrayStatement& stated, const Address& folder,
                                    const Context& context) {
  if (stated.members.empty()) return disks_of(folder, context);
  std::vector<Address> files;
  const auto beside = host_neighbours(folder.first, context);
  for (const std::string& name : beside->names())
    if (std::find(stated.members.begin(), stated.members.end(), name) != stated.members.end())
      files.push_back(folder.with({Step::Kind::member, 0, name, {}}));
  return files;
}

StatedArray stated_array(const ArrayStatement& stated, std::vector<Address> disks,
                         const Address& base, const Session& session) {
  for (const Address& given : session.options().with)
    for (const Address& one : disks_of(given, session.context())) disks.push_back(one);
  // A member goes by the name of its file.
  const auto name_of = [](const Address& address) {
    const bool in_folder =
        address.steps.size() == 1 && address.steps.front().kind == Step::Kind::member;
    return in_folder ? address.steps.front().text
                     : std::filesystem::path(address.first).filename().string();
  };
  std::vector<std::string> order = stated.members;
  if (order.empty())
    for (const Address& disk : disks) order.push_back(name_of(disk));
  StatedArray array;
  for (const std::string& name : order) {
    array.members.emplace_back();
    if (name == "-") continue;
    const auto found = std::find_if(disks.begin(), disks.end(),
                                    [&](const Address& one) { return name_of(one) == name; });
    if (found == disks.end())
      throw Error(ErrorCode::not_found, base.print(), std::nullopt,
                  fmt::format("there is no member \"{}\"", for_terminal(name)),
                  {"write - for one that is missing, or name it with ", Do::with});
    const DiskPtr disk = session.open_disk(*found).disks.back();
    if (!array.first) array.first = disk;
    array.members.back() = stated_member(disk, stated);
  }
  if (!array.first)
    throw Error(ErrorCode::usage, base.print(), std::nullopt, "none of the members is there",
                {Do::survey, " shows what is there"});
  return array;
}

}  // namespace lantern
