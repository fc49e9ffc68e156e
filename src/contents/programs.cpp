#include <algorithm>

#include "contents/kinds.h"

namespace lantern::kinds {

Held check_elf(KindReader& file) {
  const bool wide = file.byte(4) == 2, big_endian = file.byte(5) == 2;
  if (file.byte(4) < 1 || file.byte(4) > 2 || file.byte(5) < 1 || file.byte(5) > 2 ||
      file.byte(6) != 1)
    file.broken(4, "its header makes no sense");
  const auto half = [&](std::uint64_t at) -> std::uint64_t {
    return big_endian ? file.be16(at) : file.le16(at);
  };
  const auto word = [&](std::uint64_t at) -> std::uint64_t {
    if (!wide) return big_endian ? file.be32(at) : file.le32(at);
    return big_endian ? file.be64(at) : file.le64(at);
  };
  const auto small = [&](std::uint64_t at) -> std::uint64_t {
    return big_endian ? file.be32(at) : file.le32(at);
  };
  std::uint64_t end = wide ? 64 : 52;
  const auto takes = [&](std::uint64_t at, std::uint64_t length) {
    if (!file.has(at, length)) file.cut(file.size(), "a part of it is past its end");
    end = std::max(end, at + length);
  };
  const std::uint64_t segments = word(wide ? 32 : 28), sections = word(wide ? 40 : 32);
  const std::uint64_t figures = wide ? 54 : 42;
  const std::uint64_t segment_bytes = half(figures), segment_count = half(figures + 2),
                      section_bytes = half(figures + 4), section_count = half(figures + 6);
  if ((segment_count > 0 && segment_bytes != (wide ? 56u : 32u)) ||
      (section_count > 0 && section_bytes != (wide ? 64u : 40u)))
    file.broken(figures, "its tables have rows of an invalid length");
  if (segment_count + section_count == 0) file.broken(figures, "its header makes no sense");
  file.prove();
  takes(segments, segment_count * segment_bytes);
  takes(sections, section_count * section_bytes);
  for (std::uint64_t i = 0; i < segment_count; ++i) {
    file.check_cancelled();
    const std::uint64_t at = segments + i * segment_bytes;
    takes(word(at + (wide ? 8 : 4)), word(at + (wide ? 32 : 16)));
  }
  for (std::uint64_t i = 0; i < section_count; ++i) {
    file.check_cancelled();
    const std::uint64_t at = sections + i * section_bytes;
    constexpr std::uint64_t kEmpty = 0, kTakesNoPlace = 8;
    const std::uint64_t type = small(at + 4);
    if (type == kEmpty || type == kTakesNoPlace) continue;
    takes(word(at + (wide ? 24 : 16)), word(at + (wide ? 32 : 20)));
  }
  return {false, end, "its tables and what they point to fit"};
}

Held check_pe(KindReader& file) {
  const std::uint64_t header = file.le32(0x3C);
  if (!file.has(header, 24)) file.cut(file.size(), "its header is past its end");
  if (!file.starts(header, std::string_view("PE\0\0", 4)))
    file.broken(header, "it has no header where it says");
  const std::uint64_t sections = file.le16(header + 6), optional = file.le16(header + 20);
  const unsigned magic = optional >= 2 ? file.le16(header + 24) : 0;
  if (magic != 0x10B && magic != 0x20B) file.broken(header + 24, "its header makes no sense");
  file.prove();
  const std::uint64_t table = header + 24 + optional;
  std::uint64_t end = table + sections * 40;
  const auto takes = [&](std::uint64_t at, std::uint64_t length) {
    if (!file.has(at, length)) file.cut(file.size(), "a part of it is past its end");
    end = std::max(end, at + length);
  };
  takes(table, sections * 40);
  for (std::uint64_t i = 0; i < sections; ++i) {
    const std::uint64_t row = table + i * 40;
    if (file.le32(row + 16) > 0) takes(file.le32(row + 20), file.le32(row + 16));
  }
  // What signs it stands behind all else.
  constexpr std::uint64_t kSignature = 4 * std::uint64_t{8};  // its row among eight-byte ones
  const std::uint64_t rows = header + 24 + (magic == 0x20B ? 112 : 96);
  const std::uint64_t signature = rows + kSignature;
  if (signature + 8 <= table && file.le32(rows - 4) > 4 && file.le32(signature) != 0)
    takes(file.le32(signature), file.le32(signature + 4));
  return {false, end, "its sections fit"};
}

}  // namespace lantern::kinds
