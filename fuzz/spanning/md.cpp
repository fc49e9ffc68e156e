#include "fuzz.h"
#include "volume/md/assemble.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  const SourcePtr source = fuzz::source_of(data, size);
  auto super = md::find_superblock(*source);
  if (!super) return 0;
  // Once with all its places but its own missing, once as each member of itself.
  std::vector<md::Member> members = {{"member", source, *super}};
  for (int round = 0; round < 2; ++round) {
    const SpannedSet set = md::assemble(members);
    if (set.volumes.front().bytes) fuzz::read_some(*set.volumes.front().bytes);
    for (std::uint32_t device = 0; device < 4; ++device) {
      super->device = device;
      members.push_back({"member", source, *super});
    }
  }
  return 0;
}
