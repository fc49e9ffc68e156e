#include "fuzz.h"
#include "volume/luks/unlock.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  const SourcePtr source = fuzz::source_of(data, size);
  auto header = luks::read_header(*source);
  if (!header) return 0;
  // Deriving keys takes seconds of the fuzzer's time where a header asks for it.
  for (const luks::KeySlot& slot : header->slots)
    if (slot.derivation.rounds > 10'000 || slot.derivation.memory_kib > 1024) return 0;
  for (const luks::Digest& digest : header->digests)
    if (digest.derivation.rounds > 10'000) return 0;
  KeyRing keys;
  keys.add("", Secret(std::vector<std::byte>(8)));
  const luks::Unlocked opened = luks::unlock(source, *source, "volume", keys, Context());
  if (opened.content) fuzz::read_some(*opened.content);
  return 0;
}
