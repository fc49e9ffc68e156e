// What the fields of each kind of structure are, and what speaks against their values. The layouts
// stand in the headers of the readers: volume/mbr.h, volume/gpt.h, filesystem/*/.
//
// Thread-safety: any thread.
#pragma once

#include "lantern/structure.h"

namespace lantern::repair {

void describe_mbr(Structure& structure, const DiskLayer& disk);
void describe_gpt_header(Structure& structure, const DiskLayer& disk, bool copy);
void describe_gpt_entries(Structure& structure, const DiskLayer& disk);

// The kind of a boot sector: by its own words, else by its copy. Empty: none that is known.
enum class BootKind { none, fat, fat32, ntfs, exfat };
BootKind boot_kind(ByteView sector);

// `copy`: the volume's copy of its boot sector, when it has one that can be; else empty.
// `start_sectors`: where the volume begins on the disk.
struct BootPlace {
  BootKind kind{};
  ByteView copy;
  std::uint64_t start_sectors = 0;
  std::uint64_t volume_sectors = 0;
  bool has_table = false;
};
void describe_boot(Structure& structure, const BootPlace& place);

void describe_superblock(Structure& structure, std::uint64_t volume_bytes);
// A record of NTFS' file table.
void describe_file_record(Structure& structure);

}  // namespace lantern::repair
