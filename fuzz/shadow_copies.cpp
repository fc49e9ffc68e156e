#include "volume/shadow_copies.h"

#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  lantern::Context context;
  try {
    const auto copies = lantern::find_shadow_copies(lantern::fuzz::source_of(data, size), context);
    for (std::size_t i = 0; i < std::min<std::size_t>(copies.versions.size(), 4); ++i)
      lantern::fuzz::read_some(*copies.open_version(copies.versions[i].id));
  } catch (const lantern::Error&) {
    // One clear line is an answer.
  }
  return 0;
}
