#include "nest/opening/sets.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "lantern/nest/source_set.h"
#include "lantern/text.h"
#include "volume/lvm/assemble.h"
#include "volume/md/assemble.h"

namespace lantern {
namespace {

constexpr int kMaxRounds = 8;  // arrays in groups in arrays

// What may be a member: a disk, a volume, or an array or volume that was put together.
struct Candidate {
  std::string address;
  SourcePtr bytes;
  LayerPtr layer;
};

bool has(const std::vector<Recognition>& found, std::string_view format) {
  return std::any_of(found.begin(), found.end(),
                     [&](const Recognition& one) { return one.format == format; });
}

// A name as it is spoken of: without the computer that made the array.
std::string short_name(const SpannedSet& set) {
  const std::size_t colon = set.name.rfind(':');
  const std::string name = colon == std::string::npos ? set.name : set.name.substr(colon + 1);
  return name.empty() ? set.uuid : name;
}

class Gatherer {
 public:
  Gatherer(const std::optional<Address>& base, const Session& session)
      : base_(base), session_(session) {}

  void add_disk(const DiskPtr& disk) {
    found_->disks.push_back(disk);
    // A disk without a table is its only volume.
    if (disk->table.is_there() && disk->owner) add({disk->address.print(), disk->bytes, disk});
    for (const VolumePtr& volume : disk->volumes.all())
      add({volume->address.print(), volume->content(), volume});
  }

  std::shared_ptr<const SpannedSets> run() {
    for (int round = 0; round < kMaxRounds; ++round) {
      session_.context().check_cancelled();
      const std::size_t known = seen_.size();
      assemble_arrays();
      if (seen_.size() != known) continue;
      if (pvs_at_last_ == physical_.size()) break;
      assemble_groups();
      if (seen_.size() == known) break;
    }
    return found_;
  }

 private:
  void add(const Candidate& candidate) {
    if (!candidate.bytes || !seen_.insert(candidate.address).second) return;
    const auto recognised = known_formats().recognise(*candidate.bytes);
    layers_[candidate.address] = candidate.layer;
    if (has(recognised, "md"))
      // What a mirror begins with stands at the start of its members, too: they are the array's.
      if (auto super = md::find_superblock(*candidate.bytes)) {
        arrays_[super->set_uuid].push_back({candidate.address, candidate.bytes, std::move(*super)});
        return;
      }
    if (has(recognised, "lvm")) physical_.push_back({candidate.address, candidate.bytes});
  }

  // A superblock that is damaged where it names the array: its other words tell which it is.
  void join_damaged() {
    const auto is_right = [](const md::Member& member) { return member.super.sum_is_right; };
    const auto find_own = [&](const md::Superblock& damaged) {
      return std::find_if(arrays_.begin(), arrays_.end(), [&](const auto& other) {
        const auto right = std::find_if(other.second.begin(), other.second.end(), is_right);
        return right != other.second.end() && right->super.name == damaged.name &&
               right->super.geometry == damaged.geometry && right->super.version == damaged.version;
      });
    };
    for (auto damaged = arrays_.begin(); damaged != arrays_.end();) {
      std::vector<md::Member>& members = damaged->second;
      const bool none_right = std::none_of(members.begin(), members.end(), is_right);
      const auto own = none_right ? find_own(members.front().super) : arrays_.end();
      if (own == arrays_.end()) {
        ++damaged;
        continue;
      }
      for (md::Member& member : members) own->second.push_back(std::move(member));
      damaged = arrays_.erase(damaged);
    }
  }

  void assemble_arrays() {
    join_damaged();
    for (const auto& known : arrays_) {
      const std::string& uuid = known.first;
      const std::vector<md::Member>& members = known.second;
      if (members.size() == assembled_[uuid]) continue;
      assembled_[uuid] = members.size();
      std::erase_if(found_->sets,
                    [&](const SpannedSets::Set& one) { return one.set.uuid == uuid; });
      add_set(md::assemble(members));
      const SpannedSets::Set& made = found_->sets.back();
      if (!made.volumes.front()) continue;
      // An array with a table of its own; opened as a disk it is looked at like one.
      const VolumePtr array = made.volumes.front();
      if (!has(known_formats().recognise(*array->bytes), "md"))
        if (const DiskPtr disk = as_disk(array); disk && disk->table.is_there()) {
          for (const VolumePtr& volume : disk->volumes.all())
            add({volume->address.print(), volume->content(), volume});
          inner_.push_back(disk);
        }
      add({array->address.print(), array->content(), array});
    }
  }

  DiskPtr as_disk(const VolumePtr& volume) const {
    try {
      return session_.open_bytes(volume->content(), volume->address, {}, {volume});
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      return nullptr;
    }
  }

  void assemble_groups() {
    pvs_at_last_ = physical_.size();
    std::erase_if(found_->sets,
                  [](const SpannedSets::Set& one) { return one.set.format == "lvm"; });
    for (SpannedSet& set : lvm::assemble(physical_, session_.context())) add_set(std::move(set));
    for (const SpannedSets::Set& one : found_->sets)
      if (one.set.format == "lvm")
        for (std::size_t i = 0; i < one.volumes.size(); ++i)
          if (one.volumes[i] && !one.set.volumes[i].hidden && !one.set.volumes[i].is_pool)
            add({one.volumes[i]->address.print(), one.volumes[i]->content(), one.volumes[i]});
  }

  void add_set(SpannedSet set) {
    SpannedSets::Set one;
    one.name = short_name(set);
    const bool taken =
        std::any_of(found_->sets.begin(), found_->sets.end(), [&](const SpannedSets::Set& other) {
          return other.set.format == set.format && other.name == one.name;
        });
    if (taken) one.name = set.uuid;
    one.set = std::move(set);
    for (const SpanMember& member : one.set.members) {
      const auto known = layers_.find(member.address);
      one.members.push_back(known == layers_.end() ? nullptr : known->second);
    }
    one.base = base_ ? *base_ : first_disk(one);
    open_volumes(one, one.base, session_);
    found_->sets.push_back(std::move(one));
  }

  // Of the disks that a set's members lie on, the first by name.
  Address first_disk(const SpannedSets::Set& one) const {
    const Address* first = nullptr;
    for (const LayerPtr& member : one.members)
      walk_layers(member, [&](const Layer& layer) {
        for (const DiskPtr& disk : found_->disks) {
          const Address& own = disk->address;
          const bool under = layer.address.print() == own.print() ||
                             layer.address.print().starts_with(own.print() + "::");
          if (under && (first == nullptr || own.print() < first->print())) first = &own;
        }
        return true;
      });
    return first == nullptr ? found_->disks.front()->address : *first;
  }

 public:
  // The set's volumes as layers under `base`.
  static void open_volumes(SpannedSets::Set& one, const Address& base, const Session& session) {
    const bool array = one.set.format == "md";
    const Address of_set =
        base.with({array ? Step::Kind::array : Step::Kind::logical_volume, 0, one.name, {}});
    for (const SpannedVolume& volume : one.set.volumes) {
      if (!volume.bytes) {
        one.volumes.push_back(nullptr);
        continue;
      }
      const Address address =
          array ? of_set
                : base.with({Step::Kind::logical_volume, 0, one.name + "/" + volume.name, {}});
      VolumeRow row;
      row.range = {0, volume.bytes->size()};
      row.type = volume.type;
      row.name = array ? one.set.name : volume.name;
      row.uuid = volume.uuid;
      row.spans = true;
      std::vector<LayerPtr> inputs;
      for (const std::size_t i : volume.from)
        if (i < one.members.size() && one.members[i]) inputs.push_back(one.members[i]);
      auto layer = std::make_shared<VolumeLayer>(address, std::move(row),
                                                 FileSystemSources(volume.bytes), std::move(inputs),
                                                 session.options().file_system, session.context());
      const auto tell = [&](Finding finding, const Address& place) {
        if (finding.address.empty()) finding.address = place.print();
        layer->findings->add(std::move(finding));
      };
      for (const Finding& finding : one.set.findings) tell(finding, of_set);
      for (const Finding& finding : volume.findings) tell(finding, address);
      one.volumes.push_back(std::move(layer));
    }
  }

 private:
  const std::optional<Address>& base_;
  const Session& session_;
  std::set<std::string> seen_;                             // addresses
  std::map<std::string, LayerPtr> layers_;                 // by address
  std::map<std::string, std::vector<md::Member>> arrays_;  // by UUID
  std::map<std::string, std::size_t> assembled_;           // from so many members
  std::vector<lvm::Member> physical_;
  std::size_t pvs_at_last_ = 0;
  std::vector<DiskPtr> inner_;
  std::shared_ptr<SpannedSets> found_ = std::make_shared<SpannedSets>();
};

std::string plain(std::string_view id) {
  std::string text;
  for (const char c : id)
    if (c != '-' && c != ':') text += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  return text;
}

bool is_named(const SpannedSets::Set& one, std::string_view name) {
  return one.name == name || one.set.name == name || short_name(one.set) == name ||
         plain(one.set.uuid) == plain(name);
}

}  // namespace

std::shared_ptr<const SpannedSets> find_sets(const std::optional<Address>& base,
                                             const std::vector<DiskPtr>& disks,
                                             const Session& session) {
  SourceSet once;
  Gatherer gatherer(base, session);
  for (const DiskPtr& disk : disks)
    if (!once.add(disk->address)) gatherer.add_disk(disk);
  for (const Address& given : session.options().with)
    for (const Address& address : disks_of(given, session.context())) {
      if (once.add(address)) continue;
      try {
        gatherer.add_disk(session.open_disk(address).disks.back());
      } catch (const Error& error) {
        if (error.code() == ErrorCode::stopped) throw;
      }
    }
  return gatherer.run();
}

SpannedSets::Set open_set_version(const SpannedSets::Set& set, const Address& base,
                                  const std::string& version, const Session& session) {
  SpannedSets::Set then;
  if (!set.set.open_version)
    throw Error(ErrorCode::not_found, base.print(), std::nullopt, "an array has no versions",
                {Do::survey, " shows what is there"});
  then.set = set.set.open_version(version);
  then.name = set.name;
  then.base = base;
  // Members are the same sources, in the order of that description.
  for (const SpanMember& member : then.set.members) {
    LayerPtr layer;
    for (std::size_t i = 0; i < set.members.size(); ++i)
      if (!member.address.empty() && set.set.members[i].address == member.address)
        layer = set.members[i];
    then.members.push_back(std::move(layer));
  }
  Gatherer::open_volumes(then, base, session);
  return then;
}

std::vector<VolumePtr> SpannedSets::arrays_named(std::string_view name) const {
  std::vector<VolumePtr> all;
  for (const Set& one : sets)
    if (one.set.format == "md" && is_named(one, name)) all.push_back(one.volumes.front());
  return all;
}

std::vector<const SpannedSets::Set*> SpannedSets::groups_named(std::string_view name) const {
  std::vector<const Set*> all;
  for (const Set& one : sets)
    if (one.set.format == "lvm" && is_named(one, name)) all.push_back(&one);
  return all;
}

std::vector<VolumePtr> SpannedSets::volumes_named(std::string_view name) const {
  std::vector<VolumePtr> all;
  const std::size_t slash = name.find('/');
  if (slash == std::string_view::npos) return all;
  for (const Set* const group : groups_named(name.substr(0, slash)))
    for (std::size_t i = 0; i < group->set.volumes.size(); ++i)
      if (group->set.volumes[i].name == name.substr(slash + 1)) all.push_back(group->volumes[i]);
  return all;
}

}  // namespace lantern
