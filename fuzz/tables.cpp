#include "fuzz.h"
#include "lantern/volume_table.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const lantern::Context context;
  const lantern::SourcePtr source = lantern::fuzz::source_of(data, size);
  lantern::read_volume_table(source, std::nullopt, lantern::known_formats(), context);
  // Every format is asked, and what its marks promise at any sector.
  lantern::known_formats().recognise(*source);
  for (std::size_t at = 0; at + 512 <= size; at += 512) lantern::known_formats().probe(*source, at);
  return 0;
}
