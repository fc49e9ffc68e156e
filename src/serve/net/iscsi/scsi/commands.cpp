#include "serve/net/iscsi/scsi/commands.h"

#include <algorithm>

namespace lantern::scsi {
namespace {

using Usage = std::array<std::uint8_t, 16>;

constexpr std::uint8_t kAll = 0xFF;
// Byte 1 of reads and writes: protection, cache bits; of VERIFY protection, cache bit, comparison.
constexpr std::uint8_t kCacheBits = 0xF8, kVerifyBits = 0xF6;

constexpr Usage of_10(std::uint8_t code, std::uint8_t flags) {
  return {code, flags, kAll, kAll, kAll, kAll, 0, kAll, kAll, 0};
}
constexpr Usage of_12(std::uint8_t code, std::uint8_t flags) {
  return {code, flags, kAll, kAll, kAll, kAll, kAll, kAll, kAll, kAll, 0, 0};
}
constexpr Usage of_16(std::uint8_t code, std::uint8_t flags) {
  return {code, flags, kAll, kAll, kAll, kAll, kAll, kAll,
          kAll, kAll,  kAll, kAll, kAll, kAll, 0,    0};
}

std::vector<Command> make_commands() {
  using enum Operation;
  using enum Needs;
  const auto none = std::nullopt;
  std::vector<Command> all = {
      {test_unit_ready, 0x00, none, nothing, 6, {0x00}},
      {request_sense, 0x03, none, nothing, 6, {0x03, 0, 0, 0, kAll}},
      {read, 0x08, none, to_read, 6, {0x08, 0x1F, kAll, kAll, kAll}},
      {write, 0x0A, none, to_write, 6, {0x0A, 0x1F, kAll, kAll, kAll}},
      {inquiry, 0x12, none, nothing, 6, {0x12, 0x01, kAll, kAll, kAll}},
      {mode_select, 0x15, none, to_write, 6, {0x15, 0x11, 0, 0, kAll}},
      {reserve, 0x16, none, to_write, 6, {0x16}},
      {release, 0x17, none, nothing, 6, {0x17}},
      {mode_sense, 0x1A, none, to_read, 6, {0x1A, 0x08, kAll, kAll, kAll}},
      {start_stop, 0x1B, none, to_read, 6, {0x1B, 0x01, 0, 0x0F, 0xF7}},
      {read_capacity_10, 0x25, none, nothing, 10, {0x25}},
      {read, 0x28, none, to_read, 10, of_10(0x28, kCacheBits)},
      {write, 0x2A, none, to_write, 10, of_10(0x2A, kCacheBits)},
      {write_and_verify, 0x2E, none, to_write, 10, of_10(0x2E, kVerifyBits)},
      {verify, 0x2F, none, to_read, 10, of_10(0x2F, kVerifyBits)},
      {prefetch, 0x34, none, to_read, 10, of_10(0x34, 0x02)},
      {synchronize, 0x35, none, to_write, 10, of_10(0x35, 0x02)},
      {write_same, 0x41, none, to_write, 10, of_10(0x41, kCacheBits)},
      {mode_select, 0x55, none, to_write, 10, {0x55, 0x11, 0, 0, 0, 0, 0, kAll, kAll}},
      {mode_sense, 0x5A, none, to_read, 10, {0x5A, 0x18, kAll, kAll, 0, 0, 0, kAll, kAll}},
      {read, 0x88, none, to_read, 16, of_16(0x88, kCacheBits)},
      {compare_and_write, 0x89, none, to_write, 16, of_16(0x89, kCacheBits)},
      {write, 0x8A, none, to_write, 16, of_16(0x8A, kCacheBits)},
      {write_and_verify, 0x8E, none, to_write, 16, of_16(0x8E, kVerifyBits)},
      {verify, 0x8F, none, to_read, 16, of_16(0x8F, kVerifyBits)},
      {prefetch, 0x90, none, to_read, 16, of_16(0x90, 0x02)},
      {synchronize, 0x91, none, to_write, 16, of_16(0x91, 0x02)},
      {write_same, 0x93, none, to_write, 16, of_16(0x93, kCacheBits | 1)},
      {report_units, 0xA0, none, nothing, 12, {0xA0, 0, kAll, 0, 0, 0, kAll, kAll, kAll, kAll}},
      {read, 0xA8, none, to_read, 12, of_12(0xA8, kCacheBits)},
      {write, 0xAA, none, to_write, 12, of_12(0xAA, kCacheBits)},
      {write_and_verify, 0xAE, none, to_write, 12, of_12(0xAE, kVerifyBits)},
      {verify, 0xAF, none, to_read, 12, of_12(0xAF, kVerifyBits)}};
  for (std::uint8_t action = 0; action <= 3; ++action)
    all.push_back(
        {reservation_in, 0x5E, action, nothing, 10, {0x5E, action, 0, 0, 0, 0, 0, kAll, kAll}});
  for (std::uint8_t action = 0; action <= 6; ++action)
    all.push_back({reservation_out,
                   0x5F,
                   action,
                   nothing,
                   10,
                   {0x5F, action, kAll, 0, 0, kAll, kAll, kAll, kAll}});
  all.push_back({read_capacity_16,
                 0x9E,
                 0x10,
                 nothing,
                 16,
                 {0x9E, 0x10, 0, 0, 0, 0, 0, 0, 0, 0, kAll, kAll, kAll, kAll}});
  all.push_back({report_commands,
                 0xA3,
                 0x0C,
                 to_read,
                 12,
                 {0xA3, 0x0C, 0x87, kAll, kAll, kAll, kAll, kAll, kAll, kAll}});
  all.push_back({report_management,
                 0xA3,
                 0x0D,
                 to_read,
                 12,
                 {0xA3, 0x0D, 0x80, 0, 0, 0, kAll, kAll, kAll, kAll}});
  return all;
}

}  // namespace

const std::vector<Command>& all_commands() {
  static const std::vector<Command> all = make_commands();
  return all;
}

const Command* find_command(ByteView cdb) {
  const std::uint8_t service = u8(cdb, 1) & 0x1F;
  for (const Command& command : all_commands())
    if (command.code == u8(cdb, 0) && command.service.value_or(service) == service) return &command;
  return nullptr;
}

bool has_services(std::uint8_t code) {
  return std::any_of(all_commands().begin(), all_commands().end(), [&](const Command& command) {
    return command.code == code && command.service;
  });
}

Blocks blocks_of(ByteView cdb, const Command& command) {
  switch (command.length) {
    case 6:
      // No blocks are 256 here.
      return {be32(cdb, 0) & 0x1FFFFF, u8(cdb, 4) == 0 ? 256u : u8(cdb, 4)};
    case 10:
      return {be32(cdb, 2), be16(cdb, 7)};
    case 12:
      return {be32(cdb, 2), be32(cdb, 6)};
    default:
      return {be64(cdb, 2),
              command.operation == Operation::compare_and_write ? u8(cdb, 13) : be32(cdb, 10)};
  }
}

}  // namespace lantern::scsi
