#include "filesystem/ntfs/names.h"

#include <algorithm>

#include "lantern/text.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kNameHeader = 0x42;

// UTF-8, lone surrogates in their three-byte form too, to UTF-16. Other bytes become themselves.
std::vector<char16_t> units_of(const std::string& text) {
  std::vector<char16_t> units;
  const auto at = [&](std::size_t i) {
    return static_cast<std::uint32_t>(static_cast<unsigned char>(text[i]));
  };
  const auto follows = [&](std::size_t i) { return i < text.size() && (at(i) & 0xC0) == 0x80; };
  for (std::size_t i = 0; i < text.size();) {
    const std::uint32_t first = at(i);
    std::size_t length = 1;
    std::uint32_t value = first;
    if ((first & 0xE0) == 0xC0 && follows(i + 1)) {
      length = 2;
      value = (first & 0x1F) << 6 | (at(i + 1) & 0x3F);
    } else if ((first & 0xF0) == 0xE0 && follows(i + 1) && follows(i + 2)) {
      length = 3;
      value = (first & 0x0F) << 12 | (at(i + 1) & 0x3F) << 6 | (at(i + 2) & 0x3F);
    } else if ((first & 0xF8) == 0xF0 && follows(i + 1) && follows(i + 2) && follows(i + 3)) {
      length = 4;
      value = (first & 0x07) << 18 | (at(i + 1) & 0x3F) << 12 | (at(i + 2) & 0x3F) << 6 |
              (at(i + 3) & 0x3F);
    }
    if (value >= 0x10000) {
      units.push_back(static_cast<char16_t>(0xD7C0 + (value >> 10)));
      units.push_back(static_cast<char16_t>(0xDC00 + (value & 0x3FF)));
    } else {
      units.push_back(static_cast<char16_t>(value));
    }
    i += length;
  }
  return units;
}

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

UpCase::UpCase(ByteView table) {
  table_.reserve(table.size() / 2);
  for (std::size_t i = 0; i + 1 < table.size(); i += 2)
    table_.push_back(static_cast<char16_t>(le16(table, i)));
}

std::vector<char16_t> UpCase::fold(const std::string& text) const {
  std::vector<char16_t> units = units_of(text);
  for (char16_t& unit : units) {
    if (unit < table_.size())
      unit = table_[unit];
    else if (unit >= u'a' && unit <= u'z')
      unit = static_cast<char16_t>(unit - u'a' + u'A');
  }
  return units;
}

bool UpCase::same(const std::string& a, const std::string& b) const {
  return a == b || fold(a) == fold(b);
}

}  // namespace lantern::ntfs
