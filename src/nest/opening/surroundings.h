// What a file is opened with: its further pieces, and the files beside it.
//
// Thread-safety: pure functions.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "container/tar.h"
#include "lantern/nest/session.h"
#include "lantern/sources.h"

namespace lantern {

SourcePtr whole_or_first_piece(std::string_view name, const SourcePtr& file,
                               const Neighbours& neighbours, const Context& context);

Surroundings surroundings(const std::string& name, std::shared_ptr<const Neighbours> beside,
                          const Session& session);

// The folder FIRST is: of the host, or an archive. Empty: it is not a folder.
std::shared_ptr<const Neighbours> first_folder(const Address& first, const Context& context);

// What the members of an archive are called.
NameMember name_members_of(const Address& archive);

// What may be named instead of a version there is not, in words.
std::string versions_there_are(const Address& address, const std::vector<DiskVersion>& versions);

}  // namespace lantern
