// Numbers and text into bytes: the other half of bytes.h. Throws std::out_of_range past the end.
#pragma once

#include <algorithm>

#include "base/bytes.h"

namespace lantern {

inline std::span<std::byte> part_of(std::span<std::byte> bytes, std::size_t at,
                                    std::size_t length) {
  slice(bytes, at, length);
  return bytes.subspan(at, length);
}

template <typename Number>
void store_le(std::span<std::byte> bytes, std::size_t at, Number value) {
  for (std::byte& b : part_of(bytes, at, sizeof(Number))) {
    b = static_cast<std::byte>(value);
    value = static_cast<Number>(static_cast<std::uint64_t>(value) >> 8);
  }
}

template <typename Number>
void store_be(std::span<std::byte> bytes, std::size_t at, Number value) {
  const std::span<std::byte> part = part_of(bytes, at, sizeof(Number));
  for (auto b = part.rbegin(); b != part.rend(); ++b) {
    *b = static_cast<std::byte>(value);
    value = static_cast<Number>(static_cast<std::uint64_t>(value) >> 8);
  }
}

inline void store_le16(std::span<std::byte> b, std::size_t at, std::uint64_t v) {
  store_le(b, at, static_cast<std::uint16_t>(v));
}
inline void store_le32(std::span<std::byte> b, std::size_t at, std::uint64_t v) {
  store_le(b, at, static_cast<std::uint32_t>(v));
}
inline void store_le64(std::span<std::byte> b, std::size_t at, std::uint64_t v) {
  store_le(b, at, v);
}
inline void store_be16(std::span<std::byte> b, std::size_t at, std::uint64_t v) {
  store_be(b, at, static_cast<std::uint16_t>(v));
}
inline void store_be32(std::span<std::byte> b, std::size_t at, std::uint64_t v) {
  store_be(b, at, static_cast<std::uint32_t>(v));
}
inline void store_be64(std::span<std::byte> b, std::size_t at, std::uint64_t v) {
  store_be(b, at, v);
}

inline void store_bytes(std::span<std::byte> bytes, std::size_t at, ByteView part) {
  std::copy(part.begin(), part.end(), part_of(bytes, at, part.size()).begin());
}

inline void store_text(std::span<std::byte> bytes, std::size_t at, std::string_view text) {
  store_bytes(bytes, at, std::as_bytes(std::span(text)));
}

}  // namespace lantern
