// Lines of a change journal and records of a log, as NTFS volumes keep them; no system here writes
// them.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "kit/ntfs_builder.h"

namespace lantern::kit {

inline std::uint64_t reference(std::uint64_t record, std::uint16_t sequence) {
  return record | std::uint64_t{sequence} << 48;
}

// What a change journal says of a file.
struct JournalLine {
  static constexpr std::uint32_t kMade = 0x100;
  static constexpr std::uint32_t kDeleted = 0x200;
  static constexpr std::uint32_t kFolderBit = 0x10;

  std::uint64_t file = 0, folder = 0;  // references
  std::string name;
  std::uint32_t done = kDeleted;
  std::uint64_t time = NtfsBuilder::kNow;
  std::uint32_t bits = 0x20;
};

// In version 2 or 3.
void append(Bytes& journal, const JournalLine& line, int version = 2);

// Records of a log, in pages that guard their sectors.
Bytes log_of(const std::vector<Bytes>& records);

// A record that takes an entry out of an index, `before` bytes into its data; what takes it back is
// the entry. `name`: an attribute.
Bytes taken_out(std::uint64_t number, std::uint64_t file, const Bytes& name, std::size_t before);

}  // namespace lantern::kit
