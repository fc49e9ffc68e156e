// The entries of the partition tables that are read here, for the registry.
//
// Thread-safety: the entries are values; their probes are pure.
#pragma once

#include "lantern/format/registry.h"

namespace lantern {

Format mbr_format();
Format gpt_format();
Format apm_format();

}  // namespace lantern
