#include "serve/net/iscsi/scsi/sense.h"

#include "base/store.h"

namespace lantern::scsi {

Fault wrong_field(std::uint16_t at) {
  return {kIllegalRequest, 0x2400, std::nullopt, at, false};
}

Fault wrong_parameter(std::uint16_t at) {
  return {kIllegalRequest, 0x2600, std::nullopt, at, true};
}

Fault unreadable_at(std::uint64_t block) {
  return {kMediumError, 0x1100, block, std::nullopt, false};
}

Fault unlike_at(std::uint64_t offset) {
  return {kMiscompare, 0x1D00, offset, std::nullopt, false};
}

Bytes sense_of(const Fault& fault) {
  constexpr std::uint8_t kCurrent = 0x70, kValid = 0x80, kSpecific = 0x80, kOfCommand = 0x40;
  Bytes sense(18);
  // A block that does not fit into the field is not told: a wrong one would be.
  const bool told = fault.information && *fault.information <= 0xFFFFFFFF;
  sense[0] = static_cast<std::byte>(kCurrent | (told ? kValid : 0));
  sense[2] = static_cast<std::byte>(fault.key);
  if (told) store_be32(sense, 3, *fault.information);
  sense[7] = std::byte{10};
  store_be16(sense, 12, fault.code);
  if (fault.field) {
    sense[15] = static_cast<std::byte>(kSpecific | (fault.in_data ? 0 : kOfCommand));
    store_be16(sense, 16, *fault.field);
  }
  return sense;
}

}  // namespace lantern::scsi
