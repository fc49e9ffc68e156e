// Who a volume belongs to when several formats have left their structures in it: remains of former
// ones stand everywhere on used disks.
//
// Thread-safety: pure functions.
#pragma once

#include "lantern/file_system.h"
#include "lantern/format/registry.h"

namespace lantern {

// The recognition that counts, among those `found` in a volume (Registry::recognise) of which
// `files` could be opened (may be empty). Null: nothing is known of it.
//   - a member of an array or group, or an encrypted volume, by its first structure;
//   - else a file system that was opened by its own first structure, verified;
//   - else what else is verified; else what a copy says; else what a mark alone says.
const Recognition* owner_of(const std::vector<Recognition>& found, const FileSystem* files);

// Whether any format but a partition table has left a structure at a source's start or end.
bool is_recognised(const ByteSource& source);

// Whether a file system that was opened in a volume of so many bytes is only remains in what the
// owner holds now.
bool is_remains(const FileSystem& files, const Recognition& owner, std::uint64_t size_bytes);

}  // namespace lantern
