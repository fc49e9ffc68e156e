// Bytes to numbers, in one place. Every access is bounds-checked; little-endian unless it says be.
// Offsets are bytes. Throws std::out_of_range on an access past the end: a caller that can meet one
// checks first, so reaching it is a fault of ours and never a silent over-read.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <stdexcept>
#include <string>
#include <string_view>
#include <vector>

namespace lantern {

using Bytes = std::vector<std::byte>;
using ByteView = std::span<const std::byte>;

// Bytes of a sector as nearly all formats count them, whatever those of the disk are.
constexpr std::uint64_t kSector = 512;

inline ByteView slice(ByteView bytes, std::size_t at, std::size_t length) {
  if (at > bytes.size() || length > bytes.size() - at)
    throw std::out_of_range("byte access past the end of a structure");
  return bytes.subspan(at, length);
}

template <typename Number>
Number little_endian(ByteView bytes, std::size_t at) {
  const ByteView part = slice(bytes, at, sizeof(Number));
  std::uint64_t value = 0;
  for (std::size_t i = sizeof(Number); i-- > 0;)
    value = value << 8 | std::to_integer<std::uint64_t>(part[i]);
  return static_cast<Number>(value);
}

inline std::uint8_t u8(ByteView bytes, std::size_t at) {
  return little_endian<std::uint8_t>(bytes, at);
}
inline std::uint16_t le16(ByteView bytes, std::size_t at) {
  return little_endian<std::uint16_t>(bytes, at);
}
inline std::uint32_t le32(ByteView bytes, std::size_t at) {
  return little_endian<std::uint32_t>(bytes, at);
}
inline std::uint64_t le64(ByteView bytes, std::size_t at) {
  return little_endian<std::uint64_t>(bytes, at);
}

template <typename Number>
Number big_endian(ByteView bytes, std::size_t at) {
  const ByteView part = slice(bytes, at, sizeof(Number));
  std::uint64_t value = 0;
  for (const std::byte b : part) value = value << 8 | std::to_integer<std::uint64_t>(b);
  return static_cast<Number>(value);
}

inline std::uint16_t be16(ByteView bytes, std::size_t at) {
  return big_endian<std::uint16_t>(bytes, at);
}
inline std::uint32_t be32(ByteView bytes, std::size_t at) {
  return big_endian<std::uint32_t>(bytes, at);
}
inline std::uint64_t be64(ByteView bytes, std::size_t at) {
  return big_endian<std::uint64_t>(bytes, at);
}

inline bool has_text(ByteView bytes, std::size_t at, std::string_view text) {
  if (at > bytes.size() || text.size() > bytes.size() - at) return false;
  for (std::size_t i = 0; i < text.size(); ++i)
    if (bytes[at + i] != static_cast<std::byte>(text[i])) return false;
  return true;
}

inline bool all_zero(ByteView bytes) {
  for (const std::byte b : bytes)
    if (b != std::byte{0}) return false;
  return true;
}

// The bytes as text, unchanged.
inline std::string text_of(ByteView bytes) {
  std::string text(bytes.size(), '\0');
  for (std::size_t i = 0; i < bytes.size(); ++i) text[i] = static_cast<char>(bytes[i]);
  return text;
}

// What firmware wants at the end of a first sector before it starts what is in it.
constexpr std::size_t kBootMarkAt = 510;
constexpr std::uint16_t kBootMark = 0xAA55;
inline bool has_boot_mark(ByteView sector) {
  return le16(sector, kBootMarkAt) == kBootMark;
}

}  // namespace lantern
