#include "contents/units.h"

#include <array>
#include <utility>

#include "contents/media/mpeg_frame.h"

namespace lantern::kinds {

std::uint64_t past_mpeg_frame(KindReader& file, std::uint64_t at) {
  const std::uint64_t length = frame_bytes(file.be32(at));
  if (length < 5) file.broken(at, "no frame of sound begins where it should");
  return at + length;
}

std::uint64_t past_riff_chunk(KindReader& file, std::uint64_t at) {
  for (const std::byte letter : file.view(at, 4)) {
    const auto c = std::to_integer<unsigned>(letter);
    if (c < 0x20 || c > 0x7E) file.broken(at, "a chunk has an invalid type");
  }
  const std::uint64_t length = file.le32(at + 4);
  return at + 8 + length + length % 2;
}

std::uint64_t past_ebml_element(KindReader& file, std::uint64_t at) {
  // Those that a row of frames is made of, and of the others the parts of four bytes.
  const unsigned first = file.byte(at);
  const bool frame = first == 0xA3 || first == 0xA0 || first == 0xE7 || first == 0xEC;
  const bool part = first == 0x1F || first == 0x1C || first == 0x12 || first == 0x15;
  if (!frame && !part) file.broken(at, "a part of it does not begin where it should");
  const std::uint64_t place = at + (frame ? 1 : 4);
  const unsigned length_first = file.byte(place);
  if (length_first == 0) file.broken(at, "a number in it is invalid");
  unsigned bytes = 1;
  while ((length_first & (0x100u >> bytes)) == 0) ++bytes;
  std::uint64_t length = length_first & ((0x100u >> bytes) - 1);
  for (unsigned i = 1; i < bytes; ++i) length = length << 8 | file.byte(place + i);
  if (length > file.size()) file.broken(at, "a part of it is too long");
  return place + bytes + length;
}

PastUnit unit_of(std::string_view check) {
  static constexpr std::array<std::pair<std::string_view, PastUnit>, 7> kUnits = {
      {{"png", past_png_chunk},
       {"ogg", past_ogg_page},
       {"flac", past_flac_frame},
       {"mpeg", past_mpeg_frame},
       {"tar", past_tar_member},
       {"riff", past_riff_chunk},
       {"ebml", past_ebml_element}}};
  for (const auto& [known, unit] : kUnits)
    if (known == check) return unit;
  return nullptr;
}

}  // namespace lantern::kinds
