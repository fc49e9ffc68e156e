#include "filesystem/fat/slots.h"

#include <algorithm>
#include <string_view>
#include <vector>

#include "lantern/text.h"

namespace lantern::fat {
namespace {

constexpr std::uint8_t kEnd = 0x00;
constexpr std::uint8_t kDeleted = 0xE5;
constexpr std::uint8_t kStandsForE5 = 0x05;
constexpr std::uint8_t kLongAttributes = 0x0F;
constexpr std::size_t kUnitsPerPart = 13;
constexpr std::size_t kMaxParts = 20;

bool is_long_part(ByteView slot) {
  return (u8(slot, 11) & 0x3F) == kLongAttributes && u8(slot, 12) == 0 && le16(slot, 26) == 0;
}

std::uint8_t name_sum(const std::array<std::uint8_t, 11>& name) {
  unsigned sum = 0;
  for (const std::uint8_t c : name) sum = (((sum & 1) << 7 | sum >> 1) + c) & 0xFF;
  return static_cast<std::uint8_t>(sum);
}

// The first character that gives this sum: each step of the sum can be taken back, so there is
// exactly one.
std::uint8_t first_for_sum(const std::array<std::uint8_t, 11>& name, std::uint8_t sum) {
  unsigned value = sum;
  for (std::size_t i = name.size() - 1; i > 0; --i) {
    value = (value - name.at(i)) & 0xFF;
    value = (value << 1 | value >> 7) & 0xFF;
  }
  return static_cast<std::uint8_t>(value);
}

bool legal_short_character(std::uint8_t c) {
  constexpr std::string_view forbidden = "\"*+,./:;<=>?[\\]|";
  return c >= 0x20 && c != 0x7F && forbidden.find(static_cast<char>(c)) == forbidden.npos;
}

std::optional<Timestamp> timestamp(std::uint16_t date, std::uint16_t time, std::uint8_t hundredths,
                                   std::uint64_t resolution_ns) {
  const auto seconds = seconds_of(1980 + (date >> 9), date >> 5 & 0x0F, date & 0x1F, time >> 11,
                                  time >> 5 & 0x3F, (time & 0x1F) * 2);
  if (date == 0 || !seconds) return std::nullopt;
  if (hundredths > 199) hundredths = 0;
  return Timestamp{*seconds + hundredths / 100, hundredths % 100u * 10'000'000u, resolution_ns,
                   true};
}

// Whether a system could have written these fields; what fails is the remains of something else.
bool could_be_written(ByteView raw) {
  const std::uint16_t date = le16(raw, 24);
  const std::uint16_t time = le16(raw, 22);
  const bool folder = (u8(raw, 11) & 0x10) != 0;
  return (date == 0 || timestamp(date, time, 0, 1)) && u8(raw, 13) <= 199 &&
         !(folder && le32(raw, 28) != 0);
}

// True when it ended inside this part.
bool add_units(ByteView part, std::vector<char16_t>& units) {
  for (std::size_t i = 0; i < kUnitsPerPart; ++i) {
    const std::size_t at = i < 5 ? 1 + i * 2 : i < 11 ? 14 + (i - 5) * 2 : 28 + (i - 11) * 2;
    const char16_t unit = le16(part, at);
    if (unit == 0) return true;
    units.push_back(unit);
  }
  return false;
}

// The first character a system would have given the short name, of what the long name begins with.
bool could_begin(std::uint8_t first, const std::vector<char16_t>& long_name) {
  std::size_t at = 0;
  while (at < long_name.size() && (long_name[at] == u' ' || long_name[at] == u'.')) ++at;
  if (at == long_name.size() || first == '_') return true;
  const char16_t unit = long_name[at];
  if (unit >= 0x80) return true;  // converters differ in what they make of it
  const auto upper = unit >= 'a' && unit <= 'z' ? unit - 'a' + 'A' : unit;
  return first == upper;
}

// ".TXT", or empty.
std::string short_extension(const std::array<std::uint8_t, 11>& name) {
  std::string text(".");
  for (std::size_t i = 8; i < name.size() && name.at(i) != ' '; ++i)
    text += name.at(i) < 0x80 ? static_cast<char>(name.at(i)) : '_';
  return text.size() > 1 ? text : std::string();
}

// Whether the long name's extension is the one the short name was given; what is not ASCII may have
// become anything.
bool ends_like(const std::vector<char16_t>& long_name, const std::array<std::uint8_t, 11>& name) {
  const auto dot = std::find(long_name.rbegin(), long_name.rend(), u'.');
  std::string extension;
  if (dot != long_name.rend())
    for (auto at = dot.base(); at != long_name.end() && extension.size() < 3; ++at)
      extension += *at < 0x80 ? static_cast<char>(*at) : '_';
  const std::string wanted = short_extension(name);
  if (wanted.empty()) return extension.empty();
  if (extension.size() + 1 != wanted.size()) return false;
  for (std::size_t i = 0; i < extension.size(); ++i)
    if (extension[i] != '_' && wanted[i + 1] != '_' &&
        !equal_ignoring_case(extension.substr(i, 1), wanted.substr(i + 1, 1)))
      return false;
  return true;
}

constexpr std::uint64_t kTwoSeconds = 2'000'000'000;
constexpr std::uint64_t kTenMilliseconds = 10'000'000;
constexpr std::uint64_t kOneDay = 86'400'000'000'000;

}  // namespace

Slot SlotReader::read_short(std::size_t index) const {
  const ByteView raw = slot(index);
  Slot s;
  s.index = index;
  for (std::size_t i = 0; i < s.short_name.size(); ++i) s.short_name.at(i) = u8(raw, i);
  s.deleted = s.short_name[0] == kDeleted;
  if (s.short_name[0] == kStandsForE5) s.short_name[0] = kDeleted;
  s.attributes = u8(raw, 11);
  s.case_flags = u8(raw, 12);
  s.first_high = wide_ ? le16(raw, 20) : std::uint16_t{0};
  s.first_low = le16(raw, 26);
  s.size_bytes = le32(raw, 28);
  s.created = timestamp(le16(raw, 16), le16(raw, 14), u8(raw, 13), kTenMilliseconds);
  s.accessed = timestamp(le16(raw, 18), 0, 0, kOneDay);
  s.modified = timestamp(le16(raw, 24), le16(raw, 22), 0, kTwoSeconds);
  return s;
}

// Walks back over the parts before the short slot. Those of a deleted name have lost their numbers;
// their order in the folder and the sum they share hold them together, and the sum tells the first
// character of the short name, too: it is the one byte that makes it right.
void SlotReader::attach_long_name(Slot& s) const {
  std::vector<char16_t> units;
  std::optional<std::uint8_t> sum;
  bool ended = false;
  std::size_t parts = 0;
  while (parts < kMaxParts && parts < s.index && !ended) {
    const ByteView part = slot(s.index - 1 - parts);
    if (!is_long_part(part)) break;
    const std::uint8_t number = u8(part, 0);
    const bool in_order = (number & 0x3F) == parts + 1 && number != kDeleted;
    if (!in_order && !(s.deleted && number == kDeleted)) break;
    if (sum && *sum != u8(part, 13)) break;
    sum = u8(part, 13);
    ended = add_units(part, units);
    if (in_order && (number & 0x40) != 0) ended = true;
    ++parts;
  }
  if (parts == 0) {
    s.first_known = !s.deleted;
    return;
  }
  if (!s.deleted) {
    std::array<std::uint8_t, 11> name = s.short_name;
    // E5 is kept as 05, and the sum is taken over what is kept.
    if (name[0] == kDeleted) name[0] = kStandsForE5;
    if (name_sum(name) == *sum && ended)
      s.long_name = utf16_to_bytes(units);
    else
      s.long_name_broken = true;
    return;
  }
  const std::uint8_t first = first_for_sum(s.short_name, *sum);
  if ((first == kStandsForE5 || legal_short_character(first)) && could_begin(first, units)) {
    s.short_name[0] = first == kStandsForE5 ? kDeleted : first;
    s.long_name = utf16_to_bytes(units);
    // A name that fills its parts has no end mark; nor has one whose last part was written over.
    // The extension tells them apart.
    if (!ended && !ends_like(units, s.short_name)) {
      s.end_known = false;
      *s.long_name += "~" + short_extension(s.short_name);
    }
    return;
  }
  s.first_known = false;
  s.long_name_broken = true;
}

std::optional<Slot> SlotReader::next() {
  while ((index_ + 1) * kSlotBytes <= folder_.size()) {
    const std::size_t index = index_++;
    const ByteView raw = slot(index);
    const std::uint8_t first = u8(raw, 0);
    if (first == kEnd) return std::nullopt;
    if (is_long_part(raw)) continue;
    // No system sets these bits: what has them is no slot.
    const std::uint8_t attributes = u8(raw, 11);
    if ((attributes & 0xC0) != 0 || (attributes & 0x3F) == kLongAttributes) continue;
    if (first == kDeleted || (in_doubt_ && first != '.')) {
      // A formatted area filled with E5, or the remains of something else.
      bool name_like = true;
      for (std::size_t i = first == kDeleted || first == kStandsForE5 ? 1 : 0; i < 11; ++i) {
        const std::uint8_t c = u8(raw, i);
        name_like = name_like && (c == ' ' || legal_short_character(c));
      }
      if (!name_like || (attributes & 0x08) != 0 || !could_be_written(raw)) continue;
      if (u8(raw, 1) == kDeleted && u8(raw, 2) == kDeleted && u8(raw, 10) == kDeleted) continue;
    }
    Slot s = read_short(index);
    attach_long_name(s);
    return s;
  }
  return std::nullopt;
}

std::string short_name_text(const Slot& slot, const CodePage& code_page) {
  const auto part = [&](std::size_t from, std::size_t to, bool lower) {
    std::string text;
    for (std::size_t i = from; i < to; ++i) {
      auto c = static_cast<char>(slot.short_name.at(i));
      if (i == 0 && !slot.first_known) c = '_';
      if (lower && c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
      text += c;
    }
    while (!text.empty() && text.back() == ' ') text.pop_back();
    return text;
  };
  const std::string name = part(0, 8, (slot.case_flags & 0x08) != 0);
  const std::string extension = part(8, 11, (slot.case_flags & 0x10) != 0);
  return code_page.to_utf8(extension.empty() || slot.label() ? name + extension
                                                             : name + "." + extension);
}

std::string display_name(const Slot& slot, const CodePage& code_page) {
  return slot.long_name && !slot.long_name->empty() ? *slot.long_name
                                                    : short_name_text(slot, code_page);
}

bool looks_like_folder_part(ByteView bytes) {
  bool ended = false;
  for (std::size_t at = 0; at + kSlotBytes <= bytes.size(); at += kSlotBytes) {
    const ByteView raw = slice(bytes, at, kSlotBytes);
    const std::uint8_t first = u8(raw, 0);
    if (first == kEnd) {
      if (at == 0 || (!ended && !all_zero(raw))) return false;
      ended = true;
      continue;
    }
    if (ended) return false;
    if (is_long_part(raw)) {
      if (first != kDeleted && ((first & 0x3F) == 0 || (first & 0x3F) > kMaxParts)) return false;
      continue;
    }
    if ((u8(raw, 11) & 0xC0) != 0 || first == '.' || !could_be_written(raw)) return false;
    for (std::size_t i = 1; i < 11; ++i) {
      const std::uint8_t c = u8(raw, i);
      if (c != ' ' && !legal_short_character(c)) return false;
    }
  }
  return true;
}

bool follows(ByteView before, ByteView next) {
  const ByteView last = slice(before, before.size() - kSlotBytes, kSlotBytes);
  if (!is_long_part(last)) return true;
  const ByteView first = slice(next, 0, kSlotBytes);
  if (is_long_part(first)) return u8(first, 13) == u8(last, 13);
  // Its short slot: deleted, any first character can be right; else the sum decides.
  std::array<std::uint8_t, 11> name{};
  for (std::size_t i = 0; i < name.size(); ++i) name.at(i) = u8(first, i);
  if (name[0] == kDeleted) name[0] = first_for_sum(name, u8(last, 13));
  return name_sum(name) == u8(last, 13) &&
         (name[0] == kStandsForE5 || legal_short_character(name[0]));
}

std::optional<FolderStart> parse_folder_start(ByteView bytes, bool wide) {
  constexpr std::string_view self = ".          ";
  constexpr std::string_view parent = "..         ";
  if (bytes.size() < kFolderStartBytes || !has_text(bytes, 0, self) ||
      !has_text(bytes, kSlotBytes, parent) || (u8(bytes, 11) & 0x10) == 0 ||
      (u8(bytes, kSlotBytes + 11) & 0x10) == 0)
    return std::nullopt;
  const auto cluster = [&](std::size_t at) {
    return (wide ? static_cast<std::uint32_t>(le16(bytes, at + 20)) << 16 : 0u) |
           le16(bytes, at + 26);
  };
  FolderStart start;
  start.self = cluster(0);
  start.parent = cluster(kSlotBytes);
  start.created = timestamp(le16(bytes, 16), le16(bytes, 14), u8(bytes, 13), kTenMilliseconds);
  return start;
}

}  // namespace lantern::fat
