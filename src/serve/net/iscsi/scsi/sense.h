// How a SCSI command ended, and sense data: why it did not do what was asked.
// Sources: SAM-5, 5.3; SPC-4, 4.5.
//
// Thread-safety: pure functions.
#pragma once

#include <optional>

#include "base/bytes.h"

namespace lantern::scsi {

enum class Status : std::uint8_t { good = 0x00, check = 0x02, conflict = 0x18, full = 0x28 };

enum SenseKey : std::uint8_t {
  kNotReady = 0x2,
  kMediumError = 0x3,
  kHardwareError = 0x4,
  kIllegalRequest = 0x5,
  kUnitAttention = 0x6,
  kDataProtect = 0x7,
  kAborted = 0xB,
  kMiscompare = 0xE
};

struct Fault {
  std::uint8_t key = 0;
  std::uint16_t code = 0;                         // additional sense code and its qualifier
  std::optional<std::uint64_t> information = {};  // a block, or the offset of an unlike byte
  std::optional<std::uint16_t> field = {};        // of the command (of its data: in_data)
  bool in_data = false;

  bool operator==(const Fault&) const = default;
};

constexpr Fault kOk{};
constexpr Fault kChangedBelow{kNotReady, 0x0403};  // manual intervention required
constexpr Fault kNoSuchCommand{kIllegalRequest, 0x2000};
constexpr Fault kPastTheEnd{kIllegalRequest, 0x2100};
constexpr Fault kNoSuchUnit{kIllegalRequest, 0x2500};
constexpr Fault kListTooShort{kIllegalRequest, 0x1A00};
constexpr Fault kNothingSaved{kIllegalRequest, 0x3900};
constexpr Fault kReadOnly{kDataProtect, 0x2700};
constexpr Fault kWriteFailed{kMediumError, 0x0C00};
constexpr Fault kDamagedOnTheWay{kAborted, 0x4705};
constexpr Fault kTooLittleData{kAborted, 0x0E02};
constexpr Fault kNewNexus{kUnitAttention, 0x2900};
constexpr Fault kWasReset{kUnitAttention, 0x2903};

Fault wrong_field(std::uint16_t at);
Fault wrong_parameter(std::uint16_t at);
Fault unreadable_at(std::uint64_t block);
Fault unlike_at(std::uint64_t offset);

// In fixed format, 18 bytes.
Bytes sense_of(const Fault& fault);

}  // namespace lantern::scsi
