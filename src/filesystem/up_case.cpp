#include "filesystem/up_case.h"

#include <algorithm>

namespace lantern {
namespace {

constexpr std::size_t kMaxUnits = 65536;

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

UpCase::UpCase(ByteView table) {
  table_.reserve(table.size() / 2);
  for (std::size_t i = 0; i + 1 < table.size(); i += 2)
    table_.push_back(static_cast<char16_t>(le16(table, i)));
}

UpCase UpCase::of_shortened(ByteView table) {
  UpCase whole;
  std::vector<char16_t>& units = whole.table_;
  for (std::size_t at = 0; at + 2 <= table.size() && units.size() < kMaxUnits; at += 2) {
    const std::uint16_t unit = le16(table, at);
    if (unit != 0xFFFF || at + 4 > table.size()) {
      units.push_back(static_cast<char16_t>(unit));
      continue;
    }
    at += 2;
    const std::size_t end = std::min(units.size() + le16(table, at), kMaxUnits);
    while (units.size() < end) units.push_back(static_cast<char16_t>(units.size()));
  }
  return whole;
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

}  // namespace lantern
