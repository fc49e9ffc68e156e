#include "lantern/nest/source_set.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "lantern/nest/target.h"

namespace lantern {
namespace {

// The file FIRST leads to, not its name; the name where there is no file. With the steps behind it.
std::string key_of(const Address& address) {
  Address key = resolved(address);
  struct stat facts {};
  if (::stat(key.first.c_str(), &facts) == 0)
    key.first = S_ISBLK(facts.st_mode) ? fmt::format("device {}", facts.st_rdev)
                                       : fmt::format("file {} on {}", facts.st_ino, facts.st_dev);
  return key.print();
}

}  // namespace

std::optional<Address> SourceSet::add(const Address& address) {
  const auto [known, added] = known_.try_emplace(key_of(address), addresses_.size());
  if (!added) return addresses_[known->second];
  addresses_.push_back(address);
  return std::nullopt;
}

void SourceSet::note_members(const DiskLayer& disk) {
  const auto note = [&](const Address& address, const std::optional<Recognition>& owner) {
    if (!owner || owner->set_id.empty()) return;
    std::vector<SetMember>& members = members_[owner->set_id];
    const bool known = std::any_of(members.begin(), members.end(),
                                   [&](const SetMember& one) { return one.address == address; });
    if (!known) members.push_back({address, *owner});
  };
  for (const VolumeLayer& volume : disk.volumes) note(volume.address, volume.owner());
  // A disk without a table is its only volume.
  if (disk.table.is_there()) note(disk.address, disk.owner);
}

std::vector<SetMember> SourceSet::members_of(std::string_view set_id) const {
  const auto found = members_.find(set_id);
  if (found == members_.end()) return {};
  std::vector<SetMember> members = found->second;
  const auto slot = [](const SetMember& member) {
    return member.recognised.slot.value_or(~std::uint32_t{0});
  };
  std::stable_sort(members.begin(), members.end(),
                   [&](const SetMember& a, const SetMember& b) { return slot(a) < slot(b); });
  return members;
}

std::vector<std::string> SourceSet::set_ids() const {
  std::vector<std::string> ids;
  for (const auto& [id, members] : members_) ids.push_back(id);
  return ids;
}

}  // namespace lantern
