#include "filesystem/iso9660/iso9660.h"

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  return lantern::fuzz::volume(data, size, lantern::open_iso9660);
}
