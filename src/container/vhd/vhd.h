// VHD: a virtual disk in blocks, version 1.0, as layout.h has it.
#pragma once

#include <optional>
#include <string>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not a VHD. Throws Error{cannot_read, unsupported}.
std::optional<Container> open_vhd(const SourcePtr& file, const Surroundings& around,
                                  const Context& context);

// What the block table of a dynamic disk tells of its dynamic header.
struct VhdShape {
  std::uint64_t header_offset = 0;  // bytes, by the footer
  std::uint64_t table_offset = 0;
  std::uint64_t entry_count = 0;
  std::uint64_t block_bytes = 0;
};
// Empty when it is no dynamic disk, and when there is no such table.
std::optional<VhdShape> vhd_shape(const SourcePtr& file);

std::optional<std::string> vhd_identity(const ByteSource& file);

}  // namespace lantern
