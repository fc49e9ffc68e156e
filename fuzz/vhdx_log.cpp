// The log alone: its checksums are made right, so that what stands behind them is reached.
#include "container/vhdx/log.h"

#include "base/crc32c.h"
#include "base/store.h"
#include "fuzz.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  constexpr std::size_t kLog = 64u << 10;
  const auto input = std::as_bytes(std::span(data, std::min(size, kLog)));
  Bytes file(kLog);
  std::copy(input.begin(), input.end(), file.begin());
  std::array<std::byte, 16> id{};
  id[0] = std::byte{0x77};
  for (std::size_t at = 0; at < kLog; at += 4096) {
    if (!has_text(file, at, "loge")) continue;
    store_bytes(file, at + 32, id);
    const std::size_t length = le32(file, at + 8);
    if (length < 4096 || length > kLog - at) continue;
    store_le32(file, at + 4, crc32c_without(ByteView(file).subspan(at, length), 4));
  }
  const Context context;
  const SourcePtr replayed = replay_vhdx_log(make_memory_source(file), {0, kLog}, id, context);
  fuzz::read_some(*replayed);
  return 0;
}
