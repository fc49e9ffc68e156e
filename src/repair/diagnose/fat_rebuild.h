// A boot sector of FAT that is lost, or wrong in a few figures, worked out from what lies behind
// it.
//
// Thread-safety: as the source's.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "filesystem/fat/fit.h"

namespace lantern::repair {

struct RebuiltFat {
  Bytes sector;  // 512 bytes, without the place on the disk, serial number and label
  fat::Fit fit;
  bool one_way = false;          // no other figures fit as well
  bool by_second_table = false;  // the beginning of the first is lost, too
};

// Empty: no tables were found, or no figures that fit them. `by_one_table`: the beginning of the
// first may be lost, too.
std::optional<RebuiltFat> rebuild_fat(const ByteSource& volume, bool by_one_table);

struct MendedFat {
  Bytes sector;
  std::vector<std::string> changes;  // "sectors of a cluster 4, not 5"
  fat::Fit fit;
  bool one_way = true;  // no other change fits as well
};

// `stored` with the one figure changed that makes all of it fit. Empty: none does.
std::optional<MendedFat> mend_one_fat_figure(ByteView stored, const ByteSource& volume);

// `stored` with as few figures as can be taken from what was rebuilt, so that it fits as well and
// keeps its loader, serial number and label. Empty: too many are wrong for it to be that volume's.
std::optional<MendedFat> mend_fat_figures(ByteView stored, const RebuiltFat& rebuilt,
                                          const ByteSource& volume);

}  // namespace lantern::repair
