// Container: a virtual disk file opened as the flat disk it stands for.
#pragma once

#include <cstdint>
#include <string>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

struct Container {
  std::string format;              // "vdi"
  std::string variant;             // "dynamic", "fixed"
  SourcePtr flat;                  // the disk
  std::uint64_t stored_bytes = 0;  // of the file
  std::string id;                  // identity, as the format prints it
};

// Recognises what `file` is by its own bytes. A file of no known container is raw: its flat disk is
// itself.
Container open_container(const SourcePtr& file, const Context& context);

}  // namespace lantern
