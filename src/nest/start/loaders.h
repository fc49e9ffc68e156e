// Loaders by their code: what a first sector does, and which files it asks for next. Known by the
// messages in it, which are the same in every version; the code around them is not compared.
//
// Thread-safety: pure functions.
#pragma once

#include <span>
#include <string_view>

#include "base/bytes.h"

namespace lantern::start {

enum class CodeKind {
  none,            // zeros
  excuse,          // only says that nothing can be started from here
  active_entry,    // goes on to the volume of the active entry
  legacy_entry,    // goes on to the GPT entry with the legacy boot attribute
  numbered_entry,  // goes on to the entry of a number that is written in it
  own_sectors,     // loads the rest of itself from sectors it knows
  own_files,       // of a boot record: loads files of its volume
  unknown
};

struct SectorCode {
  CodeKind kind = CodeKind::unknown;
  std::string_view name;  // of the loader; empty: not known by one
};

// Sector 0 of a disk, at least 512 bytes.
SectorCode code_of_sector_zero(ByteView sector);
// The first sectors of a volume, at least 512 bytes.
SectorCode code_of_boot_record(ByteView start);

// Files of which a loader needs one of each row; a path is split at '/'.
using AnyOf = std::span<const std::string_view>;
std::span<const AnyOf> files_of(std::string_view loader);

// In whose presence in a root folder, or in /boot, a loader was installed there.
std::span<const std::string_view> known_files();

}  // namespace lantern::start
