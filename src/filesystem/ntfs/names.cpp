#include "filesystem/ntfs/names.h"

#include <algorithm>

#include "lantern/text.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kNameHeader = 0x42;

}  // namespace

std::string name_text(ByteView units) {
  std::vector<char16_t> text;
  text.reserve(units.size() / 2);
  for (std::size_t i = 0; i + 1 < units.size(); i += 2)
    text.push_back(static_cast<char16_t>(le16(units, i)));
  return utf16_to_bytes(text);
}

bool can_be_name(const std::string& text) {
  return text != "." && text != ".." && std::none_of(text.begin(), text.end(), [](char c) {
           return static_cast<unsigned char>(c) < 0x20 || c == '/';
         });
}

std::optional<FileName> parse_file_name(ByteView value) {
  if (value.size() < kNameHeader) return std::nullopt;
  const std::size_t bytes = std::size_t{u8(value, 0x40)} * 2;
  if (bytes == 0 || bytes > value.size() - kNameHeader) return std::nullopt;
  FileName name;
  name.folder = reference_at(value, 0);
  name.created = time_at(value, 0x08);
  name.modified = time_at(value, 0x10);
  name.changed = time_at(value, 0x18);
  name.accessed = time_at(value, 0x20);
  name.size_bytes = le64(value, 0x30);
  name.attributes = le32(value, 0x38);
  name.space = u8(value, 0x41);
  name.text = name_text(slice(value, kNameHeader, bytes));
  return name;
}

}  // namespace lantern::ntfs
