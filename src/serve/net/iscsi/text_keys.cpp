#include "serve/net/iscsi/text_keys.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "lantern/text.h"

namespace lantern::iscsi {
namespace {

// Of a text behind "0x" or "0b"; 0: it has neither.
char radix_of(std::string_view text) {
  if (text.size() < 2 || text[0] != '0') return 0;
  const char letter = static_cast<char>(text[1] | 0x20);
  return letter == 'x' || letter == 'b' ? letter : '\0';
}

std::optional<std::uint64_t> in_base(std::string_view text, int base) {
  std::uint64_t number = 0;
  const char* const end = text.data() + text.size();
  const auto read = std::from_chars(text.data(), end, number, base);
  if (read.ec != std::errc() || read.ptr != end) return std::nullopt;
  return number;
}

}  // namespace

std::optional<std::vector<Key>> read_keys(ByteView text) {
  if (text.size() > kMaxText) return std::nullopt;
  std::vector<Key> keys;
  const std::string all = text_of(text);
  for (std::size_t at = 0; at < all.size();) {
    const std::size_t end = std::min(all.find('\0', at), all.size());
    const std::string one = all.substr(at, end - at);
    at = end + 1;
    if (one.empty()) continue;
    const std::size_t border = one.find('=');
    // A name has at most 63 bytes.
    if (border == std::string::npos || border == 0 || border > 63 || keys.size() == kMaxKeys)
      return std::nullopt;
    keys.push_back({one.substr(0, border), one.substr(border + 1)});
  }
  return keys;
}

void add_key(Bytes& text, std::string_view name, std::string_view value) {
  const std::string one = fmt::format("{}={}", name, value);
  const ByteView bytes = std::as_bytes(std::span(one));
  text.insert(text.end(), bytes.begin(), bytes.end());
  text.push_back(std::byte{0});
}

std::vector<std::string> items_of(std::string_view list) {
  std::vector<std::string> items;
  for (std::size_t at = 0; at <= list.size();) {
    const std::size_t end = std::min(list.find(',', at), list.size());
    items.emplace_back(list.substr(at, end - at));
    at = end + 1;
  }
  return items;
}

std::optional<std::uint64_t> number_of(std::string_view text) {
  return radix_of(text) == 'x' ? in_base(text.substr(2), 16) : in_base(text, 10);
}

std::optional<Bytes> binary_of(std::string_view text, std::size_t max) {
  const char radix = radix_of(text);
  if (radix == 0 || text.size() > 2 + 2 * max) return std::nullopt;
  const std::string_view digits = text.substr(2);
  Bytes bytes;
  if (radix == 'b') {
    bytes = from_base64(digits);
  } else {
    // The first digit may stand alone.
    const std::size_t first = digits.size() % 2;
    for (std::size_t at = 0; at < digits.size(); at += at == 0 && first == 1 ? 1u : 2u) {
      const auto byte = in_base(digits.substr(at, at == 0 && first == 1 ? 1 : 2), 16);
      if (!byte) return std::nullopt;
      bytes.push_back(static_cast<std::byte>(*byte));
    }
  }
  if (bytes.size() > max) return std::nullopt;
  return bytes;
}

std::string binary_text(ByteView bytes) {
  std::string text = "0x";
  for (const std::byte byte : bytes) text += fmt::format("{:02x}", std::to_integer<int>(byte));
  return text;
}

}  // namespace lantern::iscsi
