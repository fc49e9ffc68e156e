#include <algorithm>
#include <array>

#include "base/kinds/content_kind.h"
#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

// Control characters of which a text may have some: tab, line feed, form feed, carriage return,
// escape.
constexpr std::array<bool, 256> kOfText = [] {
  std::array<bool, 256> of_text{};
  for (std::size_t i = 0; i < of_text.size(); ++i)
    of_text[i] = (i >= 0x20 && i != 0x7F) || i == 9 || i == 10 || i == 12 || i == 13 || i == 27;
  return of_text;
}();

constexpr std::size_t kMinText = 64;  // bytes; fewer come from chance
constexpr std::size_t kTextPiece = 32u << 10;
// Of the bytes of a text in an old code page, the most that are no ASCII.
constexpr std::uint64_t kMaxHighShare = 4;  // one in so many

// The first byte behind `at` that no text has.
std::uint64_t end_of_text(KindReader& file, std::uint64_t at, std::uint64_t& high) {
  while (at < file.size()) {
    const ByteView piece = file.view(
        at, static_cast<std::size_t>(std::min<std::uint64_t>(kTextPiece, file.size() - at)));
    for (std::size_t i = 0; i < piece.size(); ++i) {
      const auto byte = std::to_integer<std::size_t>(piece[i]);
      if (!kOfText[byte]) return at + i;
      high += byte >= 0x80 ? 1 : 0;
    }
    at += piece.size();
  }
  return at;
}

std::uint64_t checked_end(KindReader& file, std::uint64_t at) {
  std::uint64_t high = 0;
  const std::uint64_t end = end_of_text(file, at, high);
  if (end < kMinText) file.broken(end, "it is too short to be told from chance");
  const ByteView start = file.view(0, static_cast<std::size_t>(std::min<std::uint64_t>(end, 4096)));
  if (!is_text(start) && high > (end - at) / kMaxHighShare)
    file.broken(end, "it is no text of any code page");
  file.prove();
  return end;
}

// "Name: value"
bool is_field(const std::string& line) {
  const std::size_t colon = line.find(':');
  return colon != std::string::npos && colon > 0 &&
         std::all_of(line.begin(), line.begin() + static_cast<std::ptrdiff_t>(colon),
                     [](char c) { return c > 32 && c < 127; });
}

std::string line_at(KindReader& file, std::uint64_t at) {
  constexpr std::uint64_t kMaxLine = 1000;
  const std::string text =
      text_of(file.view(at, static_cast<std::size_t>(std::min(kMaxLine, file.size() - at))));
  return text.substr(0, text.find('\n') == std::string::npos ? text.size() : text.find('\n') + 1);
}

}  // namespace

Held check_text(KindReader& file) {
  std::uint64_t end = checked_end(file, 0);
  // What closes its last part is its end.
  if (file.starts(0, "<")) {
    constexpr std::uint64_t kTail = 4096;
    const std::uint64_t from = end - std::min(end, kTail);
    std::string tail = text_of(file.view(from, static_cast<std::size_t>(end - from)));
    for (char& c : tail) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    if (const std::size_t mark = tail.rfind("</html>"); mark != std::string::npos) {
      std::uint64_t after = from + mark + 7;
      while (after < end && (file.byte(after) == '\n' || file.byte(after) == '\r')) ++after;
      end = after;
    }
  }
  const bool ends_line = file.byte(end - 1) == '\n' || file.byte(end - 1) == '>';
  return {false, end,
          ends_line ? "text to the end of a line, which nothing else checks"
                    : "text that ends within a line; nothing checks it"};
}

// RFC 5322: fields, an empty line, and a body; RFC 4155: one behind the other. RFC 2046 says where
// one of several parts ends.
Held check_mail(KindReader& file) {
  std::uint64_t at = 0;
  const bool box = file.starts(0, "From ");
  if (box) at += line_at(file, 0).size();
  constexpr int kMaxFields = 1000, kMinFields = 3;
  std::string boundary;
  int fields = 0;
  for (int i = 0; i < kMaxFields; ++i) {
    const std::string line = line_at(file, at);
    if (line == "\n" || line == "\r\n") break;
    const bool goes_on = i > 0 && (line[0] == ' ' || line[0] == '\t');
    if (!goes_on && !is_field(line)) file.broken(at, "its head breaks off");
    fields += goes_on ? 0 : 1;
    if (const std::size_t mark = line.find("boundary="); mark != std::string::npos) {
      boundary = line.substr(mark + 9);
      boundary = boundary.substr(boundary[0] == '"' ? 1 : 0);
      boundary = boundary.substr(0, boundary.find_first_of("\";\r\n"));
    }
    at += line.size();
  }
  if (fields < kMinFields) file.broken(at, "it has no head of a message");
  std::uint64_t end = checked_end(file, 0);
  if (!box && !boundary.empty()) {
    const std::string mark = "\n--" + boundary + "--";
    const auto close = file.find(at, mark, end - std::min(at, end));
    if (!close) file.cut(end, "its last part has no end");
    end = *close + mark.size();
    for (int i = 0; i < 2 && file.has(end, 1); ++i)
      if (file.starts(end, i == 0 ? "\r" : "\n") || file.starts(end, "\n")) ++end;
    return {false, end, "its parts fit, to the last; nothing checks its text"};
  }
  return {false, end, "the head of a message and text; nothing checks it"};
}

Held check_rtf(KindReader& file) {
  constexpr std::uint64_t kMaxNumber = 1u << 30;
  std::uint64_t depth = 0, at = 0, mark = 0, longest = 0;
  do {
    if (at % 4096 == 0) file.check_cancelled();
    if (!file.has(at, 1)) file.cut(file.size(), "its groups are not closed");
    const unsigned byte = file.byte(at);
    if (byte >= 0x80 || (byte < 0x20 && byte != '\r' && byte != '\n' && byte != '\t'))
      file.broken(at, "it has a byte that it may not have");
    if (byte == '{' || byte == '}' || byte == '\\') {
      longest = std::max(longest, at - mark);
      mark = at;
    }
    if (byte == '{') ++depth;
    if (byte == '}') --depth;
    if (byte == '\\') {
      if (file.starts(at + 1, "bin")) {
        std::uint64_t number = 0, place = at + 4;
        for (; file.byte(place) >= '0' && file.byte(place) <= '9' && number < kMaxNumber; ++place)
          number = number * 10 + (file.byte(place) - '0');
        at = place + number;
      } else {
        ++at;
      }
    }
    ++at;
    if (at == 64) file.prove();
  } while (depth > 0);
  if (file.starts(at, "\r\n"))
    at += 2;
  else if (file.starts(at, "\n"))
    ++at;
  // A text between is as any other: so long that none has a block of a disk in it.
  constexpr std::uint64_t kMaxText = 512;
  return {false, at, "its groups are closed, to the last",
          longest < kMaxText ? longest : ~std::uint64_t{0}};
}

}  // namespace lantern::kinds
