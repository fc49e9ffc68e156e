// VDI: a virtual disk in blocks, version 1.1, as layout.h has it.
#pragma once

#include <optional>
#include <string>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not a VDI. Throws Error{cannot_read, unsupported}.
std::optional<Container> open_vdi(const SourcePtr& file, const Surroundings& around,
                                  const Context& context);

// A dynamic VDI whose header is lost, known by its block map. Empty when `file` has no such shape.
std::optional<Container> open_headless_vdi(const SourcePtr& file, const Surroundings& around,
                                           const Context& context);

// What the block map of such a file tells of its header.
struct VdiShape {
  std::uint32_t map_offset = 0;  // bytes
  std::uint32_t data_offset = 0;
  std::uint32_t block_bytes = 0;
  std::uint32_t block_count = 0;
  std::uint32_t blocks_stored = 0;
};
std::optional<VdiShape> headless_vdi(const SourcePtr& file);

std::optional<std::string> vdi_identity(const ByteSource& file);

}  // namespace lantern
