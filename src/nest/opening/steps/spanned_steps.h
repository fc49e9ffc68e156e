// Steps of an address that name what spans disks: md:, lv:, array=.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <optional>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

// The one volume that a step names. `base`: what the sets are named under. Throws Error{not_found}
// with those there are, Error{usage} for a name that repeats, Error{cannot_read} for one that
// cannot be opened.
VolumePtr spanned_volume(const SpannedSets& sets, const Step& step, const Address& base);
SpannedSets::Set spanned_group(const SpannedSets& sets, const Step& step, const Address& base);

// The disk on which a volume's first member lies.
DiskPtr disk_under(const SpannedSets& sets, const VolumeLayer& volume);

// Of all that sets offer, in disks in them as well, the volume that most likely holds the user's
// files, with why (Target::chosen). Empty: none has files that can be read.
std::optional<Target> likely_spanned(const std::shared_ptr<const SpannedSets>& sets,
                                     const Session& session);

// A volume with a partition table, or a disk image, as the disk it is; empty: it is neither.
DiskPtr disk_in(const VolumePtr& volume, const Session& session);

// The files of a folder that a statement names; where it names none, the disks in it.
std::vector<Address> stated_members(const ArrayStatement& stated, const Address& folder,
                                    const Context& context);

struct StatedArray {
  std::vector<LayerPtr> members;  // by slot; an empty pointer is a hole
  DiskPtr first;
};
// The members that a statement names among disks, and the sources given besides.
StatedArray stated_array(const ArrayStatement& stated, std::vector<Address> disks,
                         const Address& base, const Session& session);

}  // namespace lantern
