// Types of partition entries and what may lie under them, by the registry's codes.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "lantern/sweep.h"
#include "lantern/volume_table.h"

namespace lantern::repair {

// The type that says what a volume holds. `format`: its name in the registry; `type`: of the file
// system. `lba`: of the kinds that are counted in sectors.
std::uint8_t mbr_type_for(std::string_view format, std::string_view type, std::uint64_t size_bytes,
                          bool lba);
inline std::uint8_t mbr_type_for(const FoundVolume& volume, bool lba) {
  return mbr_type_for(volume.format, volume.file_system, volume.range.length, lba);
}
// Empty: none is known for it.
std::string_view gpt_type_for(std::string_view format);

// Whether an entry's type may stand for what is there; hidden kinds may, too. Of a format without
// codes any may: systems look at the volume then, not at the type.
bool mbr_type_may_be(std::uint8_t entry_type, std::string_view format, std::string_view type);
inline bool mbr_type_may_be(std::uint8_t entry_type, const FoundVolume& volume) {
  return mbr_type_may_be(entry_type, volume.format, volume.file_system);
}

// Whether the type a table gives a volume speaks against a format there: remains of former ones are
// not what it is for.
bool type_contradicts(const VolumeRow& row, std::string_view format);

}  // namespace lantern::repair
