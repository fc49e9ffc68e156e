#include "base/crc32c.h"

#include <isa-l/crc.h>

#include <array>

namespace lantern {
namespace {

constexpr std::uint32_t kStart = 0xFFFFFFFF;

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

}  // namespace lantern
