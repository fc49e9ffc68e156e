// The samples of a film: where its index has them, and whether they begin there. ISO/IEC 14496-12
// (the tables), 14496-15 (units of pictures behind their lengths).
//
// Thread-safety: as the reader.
#pragma once

#include <cstdint>
#include <vector>

#include "contents/kind_reader.h"
#include "lantern/range.h"

namespace lantern::kinds {

// The tables of one track, by the first byte behind the header of each box; no length: it has none.
struct SampleTables {
  Range description, sizes, chunks, offsets;
  bool wide = false;  // offsets of eight bytes
};

struct Sample {
  std::uint64_t at = 0;  // byte of the file
  std::uint64_t length = 0;
  friend bool operator==(const Sample&, const Sample&) = default;
};

struct Track {
  enum class Form { unknown, units, start_code, picture };
  Form form = Form::unknown;
  unsigned length_bytes = 4;  // of the length before a unit
  std::vector<Sample> samples;
  std::uint64_t longest_chunk = 0;  // bytes
};

// Throws Break where the tables make no sense.
Track read_track(KindReader& file, const SampleTables& tables);

// The longest stretch of a sample that nothing checks. `where`: byte of the file that it is at,
// whatever its table says. Throws Break where it does not look like one.
std::uint64_t check_sample(KindReader& file, const Track& track, const Sample& sample,
                           std::uint64_t where);

}  // namespace lantern::kinds
