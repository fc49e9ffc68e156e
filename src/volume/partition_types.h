// What a partition type says, in words.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace lantern {

struct PartitionType {
  std::string_view words;
  bool system = false;  // boot, recovery or firmware: not where a user keeps files
};

// `type`: the MBR type byte.
PartitionType mbr_type(std::uint8_t type);
// `guid`: lower case with dashes.
PartitionType gpt_type(std::string_view guid);

}  // namespace lantern
