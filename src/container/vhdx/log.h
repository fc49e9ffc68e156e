// The log of a VHDX, replayed in memory: writes to the file that were noted, but perhaps not made.
//   log entry, in whole sectors of 4096 bytes, around the end of the log
//     0x00 4 "loge"  0x04 4 CRC-32C of the entry  0x08 4 bytes  0x0C 4 tail  0x10 8 sequence
//     0x18 4 descriptors  0x20 16 log id  0x30 8 file size then  0x38 8 file size needed
//   descriptor (32) from 0x40: "zero" 0x08 8 length, 0x10 8 offset; or
//     "desc" 0x04 4 last bytes, 0x08 8 first bytes, 0x10 8 offset, 0x18 8 sequence
//   data sector, one for each "desc" in order: "data", high half of the sequence, 4084 bytes, low
//   half
// Source: MS-VHDX, 2.3.
#pragma once

#include <array>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// `file` as it would be with the log written out; `file` itself when there is nothing to do.
SourcePtr replay_vhdx_log(const SourcePtr& file, Range log, std::array<std::byte, 16> log_id,
                          const Context& context);

}  // namespace lantern
