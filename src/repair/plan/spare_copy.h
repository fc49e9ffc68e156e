// Which steps restore what no reader of ours needs: spare copies, and marks that other systems
// want.
//
// Thread-safety: pure.
#pragma once

#include <algorithm>
#include <array>
#include <string>
#include <string_view>

namespace lantern::repair {

// What the copies and marks of a structure are for, where no reader of ours needs them: restored
// when its diagnosis, asked again, has nothing more to say of them.
inline bool restores_copy(const std::string& code) {
  constexpr std::array<std::string_view, 16> kCodes = {
      "fat.boot-copy",     "fat.counts",         "fat.first-table", "fat.second-table",
      "fat.signature",     "fat.boot-sector",    "ntfs.boot-copy",  "ntfs.boot-sector",
      "ntfs.table-record", "ntfs.mirror-record", "exfat.boot-copy", "exfat.boot-region",
      "ext.superblock",    "ext.descriptors",    "gpt.protective",  "mbr.logical"};
  constexpr std::array<std::string_view, 5> kContainers = {"vhd.", "vhdx.", "vmdk.", "vdi.",
                                                           "qcow2."};
  return std::find(kCodes.begin(), kCodes.end(), code) != kCodes.end() ||
         std::any_of(kContainers.begin(), kContainers.end(),
                     [&](std::string_view kind) { return code.starts_with(kind); });
}

}  // namespace lantern::repair
