// The SCSI commands that a unit knows, and what stands where in them.
// Sources: SPC-4, SBC-3.
//
// Thread-safety: pure functions.
#pragma once

#include <array>
#include <optional>
#include <vector>

#include "base/bytes.h"
#include "serve/net/iscsi/scsi/sense.h"

namespace lantern::scsi {

enum class Operation {
  test_unit_ready,
  request_sense,
  read,
  write,
  inquiry,
  mode_select,
  reserve,
  release,
  mode_sense,
  start_stop,
  read_capacity_10,
  read_capacity_16,
  write_and_verify,
  verify,
  prefetch,
  synchronize,
  write_same,
  compare_and_write,
  reservation_in,
  reservation_out,
  report_units,
  report_commands,
  report_management
};

// What a reservation of another initiator has to allow.
enum class Needs { nothing, to_read, to_write };

struct Command {
  Operation operation;
  std::uint8_t code;
  std::optional<std::uint8_t> service;  // action, where several commands have one code
  Needs needs;
  std::size_t length;                  // bytes
  std::array<std::uint8_t, 16> usage;  // bits that are looked at
};

const std::vector<Command>& all_commands();
// Empty pointer: it is not known here. `cdb`: 16 bytes.
const Command* find_command(ByteView cdb);
// Whether several commands have this code.
bool has_services(std::uint8_t code);

// Blocks that a command is about.
struct Blocks {
  std::uint64_t first = 0, count = 0;
};
Blocks blocks_of(ByteView cdb, const Command& command);

}  // namespace lantern::scsi
