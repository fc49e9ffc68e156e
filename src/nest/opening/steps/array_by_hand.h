// An array whose geometry is stated, from layers that are its members.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

// As Session::open_array.
std::shared_ptr<VolumeLayer> array_by_hand(const ArrayStatement& stated,
                                           const std::vector<LayerPtr>& members,
                                           const Address& address, const Session& session);

// The member of a disk that a statement means: the disk, or its volume of that number.
LayerPtr stated_member(const DiskPtr& disk, const ArrayStatement& stated);

// What a file of this computer states; empty: it is no such file.
std::optional<ArrayStatement> read_array_file(const std::string& path, const Context& context);
// Its members, whose names are meant from the folder it is in.
std::vector<LayerPtr> open_members(const ArrayStatement& stated, const std::string& path,
                                   const Session& session);

}  // namespace lantern
