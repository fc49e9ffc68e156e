#include "serve/net/dav/dav_names.h"

#include <fmt/chrono.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <ctime>

#include "lantern/text.h"

namespace lantern::net {
namespace {

constexpr std::size_t kMaxNames = 512;

int figure(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

bool is_plain(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' ||
         c == '.' || c == '_' || c == '~';
}

bool number(std::string_view text, std::uint64_t& value) {
  const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
  return !text.empty() && read.ec == std::errc() && read.ptr == text.data() + text.size();
}

}  // namespace

std::optional<std::string> percent_decoded(std::string_view text) {
  std::string bytes;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      bytes += text[i];
      continue;
    }
    if (i + 2 >= text.size()) return std::nullopt;
    const int high = figure(text[i + 1]), low = figure(text[i + 2]);
    if (high < 0 || low < 0) return std::nullopt;
    bytes += static_cast<char>(high * 16 + low);
    i += 2;
  }
  return bytes;
}

std::optional<SharePath> share_path(std::string_view asked) {
  std::string target(asked.substr(0, asked.find('#')));
  if (!target.starts_with('/')) {
    const std::size_t scheme = target.find("://");
    if (scheme == std::string::npos) return std::nullopt;
    const std::size_t slash = target.find('/', scheme + 3);
    target = slash == std::string::npos ? "/" : target.substr(slash);
  }
  SharePath path;
  if (const std::size_t mark = target.find('?'); mark != std::string::npos) {
    path.query = target.substr(mark + 1);
    target.resize(mark);
  }
  path.ends_in_slash = target.ends_with('/');
  for (std::size_t at = 1; at < target.size();) {
    const std::size_t end = std::min(target.find('/', at), target.size());
    // Split before it is decoded: a '/' in a name is no border.
    const std::optional<std::string> name = percent_decoded(target.substr(at, end - at));
    at = end + 1;
    const auto is_border = [](char c) { return c == '/' || c == '\0'; };
    if (!name || *name == ".." || std::any_of(name->begin(), name->end(), is_border))
      return std::nullopt;
    if (name->empty() || *name == ".") continue;
    if (path.names.size() == kMaxNames) return std::nullopt;
    path.names.push_back(*name);
  }
  return path;
}

std::string percent_encoded(std::string_view name) {
  std::string text;
  for (const char c : name)
    text += is_plain(c)
                ? std::string(1, c)
                : fmt::format("%{:02X}", static_cast<unsigned>(static_cast<unsigned char>(c)));
  return text;
}

std::string href(const std::vector<std::string>& names, bool folder) {
  std::string text;
  for (const std::string& name : names) text += "/" + percent_encoded(name);
  return folder || text.empty() ? text + "/" : text;
}

std::string for_markup(std::string_view text) {
  std::string out;
  for (const char c : for_terminal(text)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      case '\'':
        out += "&#39;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string http_date(std::int64_t seconds) {
  // A year has four digits there.
  constexpr std::int64_t kFirst = 0, kLast = 253402300799;
  return fmt::format("{:%a, %d %b %Y %H:%M:%S GMT}",
                     fmt::gmtime(static_cast<std::time_t>(std::clamp(seconds, kFirst, kLast))));
}

std::optional<std::int64_t> parse_http_date(const std::string& text) {
  std::tm parts{};
  const char* const end = ::strptime(text.c_str(), "%a, %d %b %Y %H:%M:%S GMT", &parts);
  if (end == nullptr || *end != '\0') return std::nullopt;
  return ::timegm(&parts);
}

std::string_view shown_type(std::string_view name) {
  struct Type {
    std::string_view ending, type;
  };
  // No page, no drawing in XML: these would run what a stranger put into them.
  static constexpr std::array kTypes = {Type{".txt", "text/plain; charset=utf-8"},
                                        Type{".log", "text/plain; charset=utf-8"},
                                        Type{".csv", "text/plain; charset=utf-8"},
                                        Type{".md", "text/plain; charset=utf-8"},
                                        Type{".ini", "text/plain; charset=utf-8"},
                                        Type{".conf", "text/plain; charset=utf-8"},
                                        Type{".json", "text/plain; charset=utf-8"},
                                        Type{".xml", "text/plain; charset=utf-8"},
                                        Type{".jpg", "image/jpeg"},
                                        Type{".jpeg", "image/jpeg"},
                                        Type{".png", "image/png"},
                                        Type{".gif", "image/gif"},
                                        Type{".webp", "image/webp"},
                                        Type{".bmp", "image/bmp"}};
  const std::size_t dot = name.rfind('.');
  if (dot != std::string_view::npos)
    for (const Type& type : kTypes)
      if (equal_ignoring_case(name.substr(dot), type.ending)) return type.type;
  return "application/octet-stream";
}

std::optional<ByteRange> byte_range(std::string_view header, std::uint64_t size_bytes,
                                    bool& past_end) {
  past_end = false;
  if (!header.starts_with("bytes=")) return std::nullopt;
  header.remove_prefix(6);
  const std::size_t dash = header.find('-');
  if (dash == std::string_view::npos || header.find(',') != std::string_view::npos)
    return std::nullopt;
  const std::string_view first = header.substr(0, dash), last = header.substr(dash + 1);
  std::uint64_t from = 0, to = 0;
  if (first.empty()) {
    // The last so many bytes.
    if (!number(last, to)) return std::nullopt;
    past_end = to == 0 || size_bytes == 0;
    const std::uint64_t length = std::min(to, size_bytes);
    if (past_end) return std::nullopt;
    return ByteRange{size_bytes - length, length};
  }
  if (!number(first, from) || (!last.empty() && !number(last, to))) return std::nullopt;
  if (last.empty()) to = size_bytes == 0 ? 0 : size_bytes - 1;
  if (!last.empty() && to < from) return std::nullopt;
  past_end = from >= size_bytes;
  if (past_end) return std::nullopt;
  return ByteRange{from, std::min(to, size_bytes - 1) - from + 1};
}

}  // namespace lantern::net
