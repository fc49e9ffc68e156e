#include "container/vhd/vhd.h"
#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  return lantern::fuzz::container(data, size, lantern::open_vhd);
}
