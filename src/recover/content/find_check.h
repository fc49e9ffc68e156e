// One place where a file of a known kind may begin: whether one does, where it ends, and how much
// of it was checked.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <memory>
#include <optional>

#include "catalog/finds.h"
#include "contents/follow.h"
#include "lantern/container.h"
#include "lantern/format/registry.h"

namespace lantern {

// The file of this kind that begins at a byte of the disk.
std::optional<CatalogFind> check_find(const SourcePtr& disk, std::uint64_t offset,
                                      const SignatureKind& kind, std::uint64_t max_work,
                                      const Context& context, FollowedContent& followed);

// The disk image whose header, or its only mark, lies at a byte of the disk: its tables are
// followed to the last block they point to.
std::optional<CatalogFind> check_image_find(const SourcePtr& disk, std::uint64_t offset,
                                            const Format& format, const Context& context);

}  // namespace lantern
