// A file system of NTFS made larger (layout: filesystem/ntfs/boot.h, record.h): the bitmap of its
// clusters and the list of its bad ones cover what is added, the boot sector and its copy say so.
// Source: the Linux kernel's documentation and headers of NTFS.
//
// Thread-safety: pure; reads the volume.
#pragma once

#include <string>

#include "lantern/context.h"
#include "repair/grow/file_system/grown.h"

namespace lantern::repair {

// As grow_ext.
GrownFileSystem grow_ntfs(const SourcePtr& volume, const std::string& address,
                          const Context& context);

}  // namespace lantern::repair
