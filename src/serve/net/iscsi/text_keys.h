// Text of iSCSI's negotiations: "Name=Value" and a zero each.
// Source: RFC 7143, section 6.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace lantern::iscsi {

// Bytes of the text of one negotiation step that are taken, and keys of it.
constexpr std::size_t kMaxText = 64u << 10, kMaxKeys = 200;

struct Key {
  std::string name, value;
};
// Empty: this is no such text.
std::optional<std::vector<Key>> read_keys(ByteView text);
void add_key(Bytes& text, std::string_view name, std::string_view value);

// Items of "a,b,c".
std::vector<std::string> items_of(std::string_view list);
// Decimal, or hexadecimal behind 0x.
std::optional<std::uint64_t> number_of(std::string_view text);
// Behind 0x hexadecimal, behind 0b base64; of at most `max` bytes.
std::optional<Bytes> binary_of(std::string_view text, std::size_t max);
std::string binary_text(ByteView bytes);

}  // namespace lantern::iscsi
