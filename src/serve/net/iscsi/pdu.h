// Protocol data units of iSCSI, as bytes. Big-endian.
//   head     48: opcode 1, flags 1, ..., length of more heads in words of 4 (byte 4), length of the
//            data 3 (byte 5), unit number 8 (byte 8), task tag 4 (byte 16), ...
//   more     further heads
//   digest   4, CRC-32C of the heads, little-endian, where it was agreed on
//   data     filled up with zeros to a multiple of 4; its digest
// Source: RFC 7143, section 11.
//
// Thread-safety: pure functions.
#pragma once

#include <array>
#include <optional>

#include "base/bytes.h"
#include "base/store.h"

namespace lantern::iscsi {

constexpr std::size_t kHeadBytes = 48, kDigestBytes = 4;
constexpr std::uint32_t kNoTag = 0xFFFFFFFF;

// Bytes of data that are taken with one unit.
constexpr std::uint32_t kMaxData = 256u << 10;

enum Opcode : std::uint8_t {
  kNopOut = 0x00,
  kCommand = 0x01,
  kTaskManagement = 0x02,
  kLogin = 0x03,
  kText = 0x04,
  kDataOut = 0x05,
  kLogout = 0x06,
  kSnack = 0x10,
  kNopIn = 0x20,
  kResponse = 0x21,
  kTaskManagementAnswer = 0x22,
  kLoginAnswer = 0x23,
  kTextAnswer = 0x24,
  kDataIn = 0x25,
  kLogoutAnswer = 0x26,
  kReadyToTransfer = 0x31,
  kReject = 0x3F
};

// Byte 1.
constexpr std::uint8_t kFinal = 0x80, kContinue = 0x40;
constexpr std::uint8_t kReads = 0x40, kWrites = 0x20;                     // of a command
constexpr std::uint8_t kOverflow = 0x04, kUnderflow = 0x02, kStatus = 1;  // of answers and data

enum RejectReason : std::uint8_t {
  kDigestWrong = 0x02,
  kSnackRefused = 0x03,
  kProtocolError = 0x04,
  kNotSupported = 0x05,
  kFieldNotValid = 0x09
};

// Why a login fails: class and detail.
enum LoginStatus : std::uint16_t {
  kLoggedIn = 0,
  kInitiatorError = 0x0200,
  kWrongPassword = 0x0201,
  kNotAllowed = 0x0202,
  kNoTarget = 0x0203,
  kWrongVersion = 0x0205,
  kTooManyConnections = 0x0206,
  kMissingKey = 0x0207,
  kCannotJoin = 0x0208,
  kWrongSessionType = 0x0209,
  kNoSession = 0x020A,
  kNotDuringLogin = 0x020B
};

struct Pdu {
  Bytes head = Bytes(kHeadBytes);
  Bytes data;

  std::uint8_t opcode() const { return u8(head, 0) & 0x3F; }
  bool is_immediate() const { return (u8(head, 0) & 0x40) != 0; }
  std::uint8_t flags() const { return u8(head, 1); }
  std::uint32_t tag() const { return be32(head, 16); }
  std::uint64_t unit() const { return be64(head, 8); }
};

// Of a head that was read: bytes of the heads behind it, and of the data.
std::size_t more_bytes(ByteView head);
std::uint32_t data_bytes(ByteView head);
// Bytes behind `length` up to the next multiple of 4.
constexpr std::size_t padding(std::size_t length) {
  return (4 - length % 4) % 4;
}

// A head of this opcode, flags and task tag.
Bytes new_head(Opcode opcode, std::uint8_t flags, std::uint32_t tag);
void set_data_length(Bytes& head, std::size_t length);

// A logical unit's number of the 8 bytes that name it. Empty: they name it in a way that is not
// used here.
std::optional<std::uint16_t> unit_number(std::uint64_t field);
std::uint64_t unit_field(std::uint16_t number);

}  // namespace lantern::iscsi
