// What a unit tells about itself: INQUIRY and its pages, modes, capacity, the commands it knows.
// Sources: SPC-4, 6.6, 6.12, 6.35, 7.5 and 7.8; SBC-3, 5.16, 5.17, 6.4 and 6.5.
//
// Thread-safety: pure functions.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "serve/net/iscsi/scsi/commands.h"

namespace lantern::scsi {

struct Facts {
  std::string name;    // "disk", "volume-2"
  std::string serial;  // 16 hexadecimal digits that are always those of this disk
  std::string target;  // name of the target
  std::uint64_t blocks = 0;
  std::uint32_t block_bytes = 512, physical_bytes = 512;
  bool is_writable = false;
  bool keeps_writes = false;  // what was written is on the disk after a flush alone
};

// Bytes of one command, of one WRITE SAME, blocks of one COMPARE AND WRITE.
constexpr std::uint64_t kMaxTransfer = 16u << 20, kMaxSame = 64u << 20;
constexpr std::uint8_t kMaxSwap = 8;

// Empty: there is no such page.
std::optional<Bytes> inquiry(const Facts& facts, ByteView cdb);
// Of a unit that there is not.
Bytes inquiry_of_none();
// `fault`: why there is no answer.
Bytes mode_sense(const Facts& facts, ByteView cdb, Fault& fault);
// Whether what is selected is what stands: nothing can be changed. Empty: it is.
std::optional<Fault> mode_select(const Facts& facts, ByteView cdb, ByteView list);
Bytes capacity_10(const Facts& facts);
Bytes capacity_16(const Facts& facts);
Bytes unit_list(const std::vector<std::uint64_t>& units);
Bytes command_list(ByteView cdb, Fault& fault);
Bytes management_list();

}  // namespace lantern::scsi
