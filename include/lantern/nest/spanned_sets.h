// SpannedSets: the arrays and volume groups that have members among some disks, opened as layers.
//
//   const auto found = session.spanned_sets(address, {disk});
//   for (const SpannedSets::Set& each : found->sets) ...
//
// Thread-safety: constant once made.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/nest/layer.h"
#include "lantern/volume/spanning.h"

namespace lantern {

struct SpannedSets {
  struct Set {
    SpannedSet set;
    std::string name;                // that tells it from the others: its own, or its UUID
    Address base;                    // its address begins with this
    std::vector<LayerPtr> members;   // as set.members; empty pointer: missing
    std::vector<VolumePtr> volumes;  // as set.volumes; empty pointer: it cannot be opened
  };
  std::vector<DiskPtr> disks;  // that were looked at
  std::vector<Set> sets;       // arrays, then groups; what lies in another comes behind it

  // Those that a step names; several when a name repeats.
  std::vector<VolumePtr> arrays_named(std::string_view name) const;
  // "group/volume". Hidden volumes answer, too.
  std::vector<VolumePtr> volumes_named(std::string_view name) const;
  // Groups of this name.
  std::vector<const Set*> groups_named(std::string_view name) const;
};

}  // namespace lantern
