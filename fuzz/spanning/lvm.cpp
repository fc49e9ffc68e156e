#include "fuzz.h"
#include "volume/lvm/assemble.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  const Context context;
  for (const SpannedSet& set : lvm::assemble({{"pv", fuzz::source_of(data, size)}}, context)) {
    for (const SpannedVolume& volume : set.volumes)
      if (volume.bytes) fuzz::read_some(*volume.bytes);
    for (const SetVersion& version : set.versions) set.open_version(version.id);
  }
  return 0;
}
