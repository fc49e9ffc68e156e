// Arrays and groups among disks, opened as layers.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

// As Session::spanned_sets. `base`: what they are named under; empty: each under the first of its
// own disks.
std::shared_ptr<const SpannedSets> find_sets(const std::optional<Address>& base,
                                             const std::vector<DiskPtr>& disks,
                                             const Session& session);

// The set as one of its older descriptions has it. Throws Error{not_found}.
SpannedSets::Set open_set_version(const SpannedSets::Set& set, const Address& base,
                                  const std::string& version, const Session& session);

}  // namespace lantern
