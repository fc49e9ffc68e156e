#include "serve/net/iscsi/pdu.h"

namespace lantern::iscsi {

std::size_t more_bytes(ByteView head) {
  return std::size_t{u8(head, 4)} * 4;
}

std::uint32_t data_bytes(ByteView head) {
  return be32(head, 4) & 0xFFFFFF;
}

Bytes new_head(Opcode opcode, std::uint8_t flags, std::uint32_t tag) {
  Bytes head(kHeadBytes);
  head[0] = static_cast<std::byte>(opcode);
  head[1] = static_cast<std::byte>(flags);
  store_be32(head, 16, tag);
  return head;
}

void set_data_length(Bytes& head, std::size_t length) {
  store_be32(head, 4, (be32(head, 4) & 0xFF000000) | length);
}

std::optional<std::uint16_t> unit_number(std::uint64_t field) {
  const auto first = static_cast<std::uint16_t>(field >> 48);
  const unsigned method = first >> 14;  // 0: by its number, of 8 bits; 1: of 14 bits
  if ((field & 0xFFFFFFFFFFFF) != 0 || method > 1 || (method == 0 && first > 0xFF))
    return std::nullopt;
  return static_cast<std::uint16_t>(first & 0x3FFF);
}

std::uint64_t unit_field(std::uint16_t number) {
  return std::uint64_t{number > 0xFFu ? number | 0x4000u : number} << 48;
}

}  // namespace lantern::iscsi
