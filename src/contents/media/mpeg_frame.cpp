#include "contents/media/mpeg_frame.h"

#include <array>

namespace lantern::kinds {
namespace {

// ISO/IEC 11172-3 and 13818-3: the header of a frame.
constexpr std::array<std::array<std::uint16_t, 15>, 5> kRates = {{
    {0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448},  // 1, layer 1
    {0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},     // 1, layer 2
    {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320},      // 1, layer 3
    {0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256},     // 2, layer 1
    {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},          // 2, layers 2 and 3
}};
constexpr std::array<std::uint32_t, 3> kSamples = {44100, 48000, 32000};

}  // namespace

std::uint64_t frame_bytes(std::uint32_t header) {
  const unsigned version = header >> 19 & 3u, layer = header >> 17 & 3u, rate = header >> 12 & 15u,
                 samples = header >> 10 & 3u, padding = header >> 9 & 1u;
  if (header >> 21 != 0x7FF || version == 1 || layer == 0 || rate == 0 || rate == 15 ||
      samples == 3 || (header & 3u) == 2)
    return 0;
  const bool first = version == 3;
  const unsigned row = first ? 3 - layer : layer == 3 ? 3 : 4;
  const std::uint64_t bits = std::uint64_t{kRates[row][rate]} * 1000;
  const std::uint64_t per_second = kSamples[samples] >> (first ? 0 : version == 2 ? 1 : 2);
  if (layer == 3) return (12 * bits / per_second + padding) * 4;
  const std::uint64_t factor = layer == 1 && !first ? 72 : 144;
  return factor * bits / per_second + padding;
}

}  // namespace lantern::kinds
