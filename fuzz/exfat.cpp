#include "filesystem/exfat/exfat.h"

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  return lantern::fuzz::volume(data, size, lantern::open_exfat);
}
