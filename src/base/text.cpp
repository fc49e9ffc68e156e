#include "lantern/text.h"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <utf8.h>

#include <algorithm>
#include <array>

#include "base/sha256.h"

namespace lantern {
namespace {

constexpr std::size_t kLongestName = 255;  // NAME_MAX of the Linux file systems

char lower(char c) {
  return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
}

// Calls good(text, code point) for each character and bad(byte) for each byte that is no UTF-8.
template <typename Good, typename Bad>
void for_each_character(std::string_view bytes, Good good, Bad bad) {
  auto at = bytes.begin();
  while (at != bytes.end()) {
    const auto start = at;
    try {
      const std::uint32_t code = utf8::next(at, bytes.end());
      good(std::string_view(&*start, static_cast<std::size_t>(at - start)), code);
    } catch (const utf8::exception&) {
      bad(static_cast<unsigned char>(*start));
      at = start + 1;
    }
  }
}

// Cuts at a character border.
std::string_view cut(std::string_view text, std::size_t most) {
  if (text.size() <= most) return text;
  while (most > 0 && (static_cast<unsigned char>(text[most]) & 0xC0) == 0x80) --most;
  return text.substr(0, most);
}

// Letters to change, add or leave out to make the one of the other; two that changed places count
// as one.
std::size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::vector<std::size_t>> to(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
  for (std::size_t i = 0; i <= a.size(); ++i)
    for (std::size_t j = 0; j <= b.size(); ++j) {
      if (i == 0 || j == 0) {
        to[i][j] = i + j;
        continue;
      }
      to[i][j] = std::min({to[i - 1][j] + 1, to[i][j - 1] + 1,
                           to[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0u : 1u)});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        to[i][j] = std::min(to[i][j], to[i - 2][j - 2] + 1);
    }
  return to[a.size()][b.size()];
}

}  // namespace

bool is_control(std::uint32_t code) {
  return code < 0x20 || (code >= 0x7F && code < 0xA0);
}

bool is_direction_mark(std::uint32_t code) {
  return (code >= 0x202A && code <= 0x202E) || (code >= 0x2066 && code <= 0x2069) ||
         code == 0x200E || code == 0x200F || code == 0x061C;
}

bool is_valid_utf8(std::string_view bytes) {
  // Most of it is ASCII.
  while (!bytes.empty() && static_cast<unsigned char>(bytes.front()) < 0x80) bytes.remove_prefix(1);
  return utf8::is_valid(bytes.begin(), bytes.end());
}

std::string to_valid_utf8(std::string_view bytes) {
  if (is_valid_utf8(bytes)) return std::string(bytes);
  std::string text;
  for_each_character(
      bytes, [&](std::string_view character, std::uint32_t) { text += character; },
      [&](unsigned char) { text += "\xEF\xBF\xBD"; });
  return text;
}

std::string for_terminal(std::string_view bytes) {
  if (std::all_of(bytes.begin(), bytes.end(), [](char c) { return c >= 0x20 && c < 0x7F; }))
    return std::string(bytes);
  std::string text;
  const auto escape = [&](std::string_view raw) {
    for (const char c : raw) text += fmt::format("\\x{:02X}", static_cast<unsigned char>(c));
  };
  for_each_character(
      bytes,
      [&](std::string_view character, std::uint32_t code) {
        if (is_control(code) || is_direction_mark(code))
          escape(character);
        else
          text += character;
      },
      [&](unsigned char byte) { text += fmt::format("\\x{:02X}", byte); });
  return text;
}

std::string safe_file_name(std::string_view name) {
  std::string safe;
  const auto escape = [&](std::string_view raw) {
    for (const char c : raw) safe += fmt::format("%{:02X}", static_cast<unsigned char>(c));
  };
  for_each_character(
      name,
      [&](std::string_view character, std::uint32_t code) {
        if (code == '/' || is_control(code) || is_direction_mark(code))
          escape(character);
        else
          safe += character;
      },
      [&](unsigned char byte) { safe += fmt::format("%{:02X}", byte); });
  if (safe.empty()) return "unnamed";
  if (safe == ".") return "%2E";
  if (safe == "..") return "%2E%2E";
  if (safe.size() <= kLongestName) return safe;

  const std::string tag = "~" + sha256_hex(name).substr(0, 8);
  const std::size_t dot = safe.rfind('.');
  const bool has_ending = dot != std::string::npos && dot > 0 && safe.size() - dot <= 16;
  const std::string ending = has_ending ? safe.substr(dot) : std::string();
  return std::string(cut(safe, kLongestName - tag.size() - ending.size())) + tag + ending;
}

std::string utf16_to_bytes(const std::vector<char16_t>& units) {
  std::string text;
  text.reserve(units.size());
  const auto put = [&](std::uint32_t code) {
    if (code < 0x80) {
      text += static_cast<char>(code);
    } else if (code < 0x800) {
      text += static_cast<char>(0xC0 | code >> 6);
      text += static_cast<char>(0x80 | (code & 0x3F));
    } else if (code < 0x10000) {
      text += static_cast<char>(0xE0 | code >> 12);
      text += static_cast<char>(0x80 | (code >> 6 & 0x3F));
      text += static_cast<char>(0x80 | (code & 0x3F));
    } else {
      text += static_cast<char>(0xF0 | code >> 18);
      text += static_cast<char>(0x80 | (code >> 12 & 0x3F));
      text += static_cast<char>(0x80 | (code >> 6 & 0x3F));
      text += static_cast<char>(0x80 | (code & 0x3F));
    }
  };
  for (std::size_t i = 0; i < units.size(); ++i) {
    const std::uint32_t unit = units[i];
    const bool pair = unit >= 0xD800 && unit < 0xDC00 && i + 1 < units.size() &&
                      units[i + 1] >= 0xDC00 && units[i + 1] < 0xE000;
    if (pair) {
      put(0x10000 + ((unit - 0xD800) << 10) + (std::uint32_t{units[i + 1]} - 0xDC00));
      ++i;
    } else {
      put(unit);
    }
  }
  return text;
}

std::string human_size(std::uint64_t bytes) {
  constexpr std::array<std::string_view, 7> units = {"B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
  if (bytes < 1024) return fmt::format("{} B", bytes);
  auto value = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (value >= 1024 && unit + 1 < units.size()) {
    value /= 1024;
    ++unit;
  }
  // 1023.96 would round to "1024.0"
  if (value >= 1023.95 && unit + 1 < units.size()) {
    value /= 1024;
    ++unit;
  }
  return fmt::format("{:.1f} {}", value, units.at(unit));
}

std::string grouped(std::uint64_t number) {
  const std::string digits = std::to_string(number);
  std::string text;
  for (std::size_t i = 0; i < digits.size(); ++i) {
    if (i != 0 && (digits.size() - i) % 3 == 0) text += ' ';
    text += digits[i];
  }
  return text;
}

std::string path_text(const std::vector<std::string>& names) {
  std::string path;
  for (const std::string& name : names) path += "/" + name;
  return path;
}

std::string for_shell(const std::string& word) {
  const bool plain = word.find_first_not_of(
                         "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
                         "/.:_-+=@,%") == std::string::npos;
  if (plain) return word;
  std::string text = "'";
  for (const char c : word) text += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return text + "'";
}

std::string counted(std::uint64_t number, std::string_view what) {
  return fmt::format("{} {}{}", number, what, number == 1 ? "" : "s");
}

std::string base64(std::string_view bytes) {
  std::string text((bytes.size() + 2) / 3 * 4 + 1, '\0');
  const int length = EVP_EncodeBlock(reinterpret_cast<unsigned char*>(text.data()),
                                     reinterpret_cast<const unsigned char*>(bytes.data()),
                                     static_cast<int>(bytes.size()));
  text.resize(static_cast<std::size_t>(length));
  return text;
}

std::vector<std::byte> from_base64(std::string_view text) {
  constexpr std::string_view kLetters =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  static const auto kValues = [&] {
    std::array<std::uint8_t, 256> values{};
    values.fill(kLetters.size());
    for (std::size_t i = 0; i < kLetters.size(); ++i)
      values[static_cast<unsigned char>(kLetters[i])] = static_cast<std::uint8_t>(i);
    return values;
  }();
  std::vector<std::byte> bytes;
  bytes.reserve(text.size() / 4 * 3);
  std::uint32_t held = 0;
  int bits = 0;
  for (const char letter : text) {
    const std::uint8_t value = kValues[static_cast<unsigned char>(letter)];
    if (letter == '=') break;
    if (value == kLetters.size()) continue;
    held = held << 6 | value;
    bits += 6;
    if (bits < 8) continue;
    bits -= 8;
    bytes.push_back(static_cast<std::byte>(held >> bits));
  }
  return bytes;
}

std::string nearest_name(std::string_view word, const std::vector<std::string>& names) {
  constexpr std::size_t kMaxLetters = 40, kMaxDistance = 2;
  if (word.empty() || word.size() > kMaxLetters) return {};
  std::string best;
  std::size_t least = std::min(kMaxDistance, word.size() / 2) + 1;
  for (const std::string& name : names) {
    if (name.size() > kMaxLetters) continue;
    const std::size_t away = distance(word, name);
    if (away < least) {
      best = name;
      least = away;
    }
  }
  return best;
}

bool equal_ignoring_case(std::string_view a, std::string_view b) {
  return a.size() == b.size() && std::equal(a.begin(), a.end(), b.begin(),
                                            [](char x, char y) { return lower(x) == lower(y); });
}

}  // namespace lantern
