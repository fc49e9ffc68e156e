// The entries of partition tables, arrays, volume groups and encrypted volumes that are read here,
// for the registry.
//
// Thread-safety: the entries are values; their probes are pure.
#pragma once

#include "lantern/format/registry.h"

namespace lantern {

Format mbr_format();
Format gpt_format();
Format apm_format();
Format bsd_format();
Format lvm_format();
Format luks_format();
Format md_format();

}  // namespace lantern
