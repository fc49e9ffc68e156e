#include "contents/likely.h"

#include <algorithm>

#include "contents/media/mpeg_frame.h"

namespace lantern::kinds {
namespace {

bool is_bitmap(ByteView start) {
  const std::uint32_t header = le32(start, 14), picture = le32(start, 10);
  return (header == 12 || (header >= 40 && header <= 124)) && le32(start, 6) == 0 &&
         picture >= 14 + header && picture <= 4096 && le32(start, 2) > picture;
}

bool is_program(ByteView start) {
  const std::uint32_t header = le32(start, 0x3C);
  if (header < 0x40 || header > 1u << 20) return false;
  return header + 4 > start.size() || has_text(start, header, std::string_view("PE\0\0", 4));
}

// A frame, and another where it ends.
bool is_sound(ByteView start) {
  if (has_text(start, 0, "ID3")) return u8(start, 3) <= 4 && u8(start, 6) < 128;
  const std::uint64_t length = frame_bytes(be32(start, 0));
  if (length < 5) return false;
  return length + 4 > start.size() ||
         frame_bytes(be32(start, static_cast<std::size_t>(length))) > 0;
}

bool is_line_of_mailbox(ByteView start) {
  const std::string text = text_of(start.first(std::min<std::size_t>(start.size(), 256)));
  const std::string line = text.substr(0, text.find('\n'));
  // A day of the week, the time, and the year at its end.
  return line.size() > 20 && line.size() < text.size() && line.find(':') != std::string::npos &&
         line.find("20") != std::string::npos;
}

}  // namespace

bool is_likely(std::string_view check, ByteView start) {
  if (start.size() < 64) return false;
  if (check == "bmp") return is_bitmap(start);
  if (check == "pe") return is_program(start);
  if (check == "mpeg") return is_sound(start);
  if (check == "jpeg") return u8(start, 3) >= 0xC0 && u8(start, 3) != 0xFF;
  if (check == "gzip") return (u8(start, 3) & 0xE0u) == 0;
  if (check == "bzip2")
    return u8(start, 3) >= '1' && u8(start, 3) <= '9' && has_text(start, 4, "1AY&SY");
  if (check == "mail" && has_text(start, 0, "From ")) return is_line_of_mailbox(start);
  return true;
}

}  // namespace lantern::kinds
