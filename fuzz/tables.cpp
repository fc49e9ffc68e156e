#include "fuzz.h"
#include "lantern/volume_table.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const lantern::Context context;
  lantern::read_volume_table(lantern::fuzz::source_of(data, size), std::nullopt, context);
  return 0;
}
