// The fixed structures of a VHDX: which header and region table to trust, and what they say.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

struct VhdxHeader {
  std::uint64_t sequence = 0;
  std::string data_id;
  std::array<std::byte, 16> log_id{};
  Range log;
};

// The newer of the two whose checksum is right. Empty when both are lost.
std::optional<VhdxHeader> read_vhdx_header(const ByteSource& file, const Context* context);

struct VhdxRegions {
  Range table;     // the block allocation table
  Range metadata;  // either may be empty when no region table names it
};

VhdxRegions read_vhdx_regions(const ByteSource& file, const Context& context);

struct VhdxMetadata {
  std::uint64_t block_bytes = 0;
  std::uint64_t disk_bytes = 0;
  std::uint32_t sector_bytes = 0;  // logical
  bool has_parent = false;
  bool fixed = false;
  std::string id;                         // of the disk as the machine sees it
  std::string parent_id;                  // id of the parent's data
  std::vector<std::string> parent_names;  // the best first
};

// Throws Error{cannot_read} when what is needed is not there.
VhdxMetadata read_vhdx_metadata(const ByteSource& file, Range region, const Context& context);

}  // namespace lantern
