// Paths of a share in addresses (RFC 3986), and texts in pages and XML.
//
// Thread-safety: pure.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lantern::net {

struct SharePath {
  std::vector<std::string> names;  // raw bytes
  bool ends_in_slash = false;
  std::string query;  // behind the '?', as it came
};

// Of a request's target, "/Keeper/log%20a.txt?preview" or with a scheme and host before it. Empty:
// it is not valid, or climbs out of the share.
std::optional<SharePath> share_path(std::string_view target);
// "/Keeper/log%20a.txt"; of a folder with a '/' at its end.
std::string href(const std::vector<std::string>& names, bool folder);
std::string percent_encoded(std::string_view name);
// %HH as bytes. Empty: a '%' without figures.
std::optional<std::string> percent_decoded(std::string_view text);

// As text between tags, and in a value of an attribute: UTF-8 without control characters.
std::string for_markup(std::string_view text);

// "Sat, 14 Mar 2026 08:30:00 GMT", as RFC 9110 has it, and back. Empty: it is not valid.
std::string http_date(std::int64_t seconds);
std::optional<std::int64_t> parse_http_date(const std::string& text);

// By the ending of a name, of what a browser may show by itself without running anything of it;
// "application/octet-stream" for all else.
std::string_view shown_type(std::string_view name);

// "bytes=FROM-TO", the one range asked for, as far as it lies in a content of this size. Empty:
// none that can be, or several: all of it is given. `past_end`: it lies behind the end.
struct ByteRange {
  std::uint64_t from = 0, length = 0;
};
std::optional<ByteRange> byte_range(std::string_view header, std::uint64_t size_bytes,
                                    bool& past_end);

}  // namespace lantern::net
