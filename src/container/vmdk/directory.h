// The grain directory of a sparse VMDK that is lost: its tables lie one behind the other, behind
// the directory, as every writer lays them; the grains they name prove that they are what they
// seem.
#pragma once

#include <optional>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

struct GrainTables {
  std::uint64_t first = 0;  // byte of the first table; the others follow
  std::uint64_t count = 0;
};

struct DirectoryShape {
  std::uint64_t tables = 0;         // that the disk needs
  std::uint64_t table_entries = 0;  // of 4 bytes
  std::uint64_t grain_bytes = 0;
  std::uint64_t metadata_bytes = 0;  // grains lie behind this; 0: not known
};

// Whether `tables` tables from `first` can be the tables of the disk: their entries are grains of
// the file, each named once, and together nearly all there are.
bool are_grain_tables(const ByteSource& file, std::uint64_t first, const DirectoryShape& shape);

// The tables by a directory in front of them, anywhere in the first `within` bytes of the file: a
// list of sectors of tables that follow it. Empty when there is none.
std::optional<GrainTables> find_grain_tables(const ByteSource& file, const DirectoryShape& shape,
                                             std::uint64_t within);

}  // namespace lantern
