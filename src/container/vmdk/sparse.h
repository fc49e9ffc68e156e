// The sparse extents of VMDK: grains found through two levels of tables.
//   "KDMV", little-endian, offsets in sectors of 512 bytes
//     0x04 4 version 1-3   0x08 4 flags: bit 1 second directory, 2 zero grains, 16 packed, 17
//     markers 0x0C 8 capacity      0x14 8 grain size   0x1C 8, 0x24 8 descriptor: offset, sectors
//     0x2C 4 entries a table   0x30 8 second directory   0x38 8 directory (all ones: in the footer)
//     0x40 8 sectors of metadata   0x48 1 not closed   0x4D 2 packing, 1: deflate
//     packed files end in a footer, the same header 1024 bytes before the end; a grain is preceded
//     by its first sector (8) and packed bytes (4)
//     directory entry (4): table; table entry (4): grain, 0 absent, 1 zero when flag 2 is set
//   "COWD", an older server's: 0x0C 4 capacity  0x10 4 grain size  0x14 4 directory  0x18 4
//   entries;
//     tables of 4096 entries
//   CAFEBABE, a newer server's, fields of 8: 0x10 capacity  0x18 grain size  0x20 sectors of a
//   table
//     0x80 directory  0x90 tables  0xC0 grains; entries of 8: directory 1000'0000'nnnn'nnnn,
//     table: top digit 0 absent, 1 unmapped, 2 zero, 3 grain (its number in rotated bits)
// Source: Virtual Disk Format 5.0 (VMware, public technical note); the newer server's kind by the
// hypervisor's open reader.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "container/mapped_disk.h"
#include "lantern/container.h"

namespace lantern {

struct VmdkSparse {
  std::string variant;  // "sparse", "stream-optimised", "server sparse", "newer server sparse"
  std::uint64_t disk_bytes = 0;
  std::uint64_t grain_bytes = 0;
  Range descriptor;  // within the file; empty when it has none
  bool unclean = false;
  std::uint64_t tables_at = 0;       // byte of the first table, when they lie one behind the other
  std::uint64_t tables_copy_at = 0;  // the same of the second directory
  std::uint64_t metadata_bytes = 0;  // grains lie behind this
  std::shared_ptr<const BlockMap> map;
  bool takes_writes = false;  // its header and directories are whole, and nothing is packed
};

// Empty when `file` is no sparse extent. `sectors`: of the disk, when its descriptor is elsewhere
// and says so; else 0. Throws Error{cannot_read}.
std::optional<VmdkSparse> open_vmdk_sparse(const SourcePtr& file, std::uint64_t sectors,
                                           const Context& context);

// `sparse` with grains placed by evidence where both copies of its tables are corrupt. For a disk
// that lies on no other.
std::shared_ptr<const BlockMap> mend_grain_tables(const SourcePtr& file, const VmdkSparse& sparse,
                                                  const Surroundings& around,
                                                  const Context& context);

}  // namespace lantern
