// The hard-disk format of one desktop hypervisor: a table of clusters, little-endian.
//   0x00 16 "WithoutFreeSpace", or "WithouFreSpacExt" for disks past 2 TiB
//   0x10 4 version  0x1C 4 sectors a cluster  0x20 4 entries  0x24 8 sectors (the first kind: 4)
//   0x2C 4 in use: 746F6E59  0x30 4 first sector of the data
//   entries (4) from 0x40: 0 absent, else where the cluster lies, in sectors (first kind) or
//   clusters
// Its folder form: DiskDescriptor.xml names the images of each stretch of the disk, and the
// snapshots, each with its parent; the top one is the disk as it is now.
// Source: the format's own public specification (docs/interop of the open hypervisor).
#pragma once

#include <optional>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not one. Throws Error{cannot_read}.
std::optional<Container> open_hard_disk(const SourcePtr& file, const Surroundings& around,
                                        const Context& context);

// `file` is the descriptor of a folder form; its images lie beside it. Empty when it is not one.
// Throws Error{cannot_read, refused}.
std::optional<Container> open_hard_disk_folder(const SourcePtr& file, const Surroundings& around,
                                               const Context& context);

}  // namespace lantern
