#include "base/crc32c.h"

#include <isa-l/crc.h>

#include <array>
#include <bit>

namespace lantern {
namespace {

constexpr std::uint32_t kStart = 0xFFFFFFFF;
constexpr std::uint32_t kPolynomial = 0x82F63B78;  // bits turned round

// What a state becomes by one zero byte.
std::uint32_t shifted(std::uint32_t state) {
  for (int bit = 0; bit < 8; ++bit) state = (state >> 1) ^ ((state & 1) != 0 ? kPolynomial : 0);
  return state;
}

}  // namespace

std::uint32_t crc32c_chain(std::uint32_t state, ByteView bytes) {
  // The library takes bytes it does not change through a pointer that could.
  auto* const start =
      const_cast<unsigned char*>(reinterpret_cast<const unsigned char*>(bytes.data()));
  return crc32_iscsi(start, static_cast<int>(bytes.size()), state);
}

std::uint32_t crc32c(ByteView bytes) {
  return ~crc32c_chain(kStart, bytes);
}

std::uint32_t crc32c_without(ByteView bytes, std::size_t field) {
  constexpr std::array<std::byte, 4> kZero{};
  slice(bytes, field, kZero.size());
  const std::uint32_t before = crc32c_chain(crc32c_chain(kStart, bytes.first(field)), kZero);
  return ~crc32c_chain(before, bytes.subspan(field + kZero.size()));
}

std::optional<WrongByte> find_wrong_byte(ByteView bytes, std::uint32_t sum, std::uint32_t stored) {
  const std::uint32_t difference = sum ^ stored;
  if (difference == 0) return std::nullopt;
  std::optional<WrongByte> found;
  for (std::size_t i = 0; i < sizeof stored; ++i)
    if ((difference & ~(0xFFu << 8 * i)) == 0)
      found = WrongByte{bytes.size() + i, static_cast<std::byte>(sum >> 8 * i)};
  // A sum is linear: what the bits of a byte change in it, changes on with every byte behind.
  std::array<std::uint32_t, 8> of_bit{};
  for (std::size_t bit = 0; bit < of_bit.size(); ++bit) of_bit[bit] = shifted(1u << bit);
  for (std::size_t at = bytes.size(); at-- > 0;) {
    std::uint32_t change = 0;
    // All values in the order in which one bit changes from each to the next.
    for (unsigned i = 1; i < 256; ++i) {
      change ^= of_bit[static_cast<std::size_t>(std::countr_zero(i))];
      if (change != difference) continue;
      if (found) return std::nullopt;
      found = WrongByte{at, bytes[at] ^ static_cast<std::byte>(i ^ i >> 1)};
    }
    for (std::uint32_t& state : of_bit) state = shifted(state);
  }
  return found;
}

}  // namespace lantern
