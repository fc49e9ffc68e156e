// The structures of a VHDX lie far apart: the input holds them one behind the other.
#include "container/vhdx/vhdx.h"

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  struct Slot {
    std::uint64_t at;
    std::size_t length;
  };
  // Mark, headers, region tables, log, metadata table and items, block table, data.
  constexpr std::array<Slot, 9> slots = {{{0, 16},
                                          {64u << 10, 96},
                                          {128u << 10, 96},
                                          {192u << 10, 96},
                                          {256u << 10, 96},
                                          {1u << 20, 8192},
                                          {2u << 20, 512},
                                          {(2u << 20) + (64u << 10), 512},
                                          {3u << 20, 4096}}};
  std::vector<std::uint8_t> file(6u << 20);
  std::size_t used = 0;
  for (const Slot& slot : slots) {
    const std::size_t length = std::min(slot.length, size - used);
    std::copy_n(data + used, length, file.begin() + static_cast<std::ptrdiff_t>(slot.at));
    used += length;
  }
  return fuzz::container(file.data(), file.size(), open_vhdx);
}
