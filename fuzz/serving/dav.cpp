// What a client of a share may send: a path, a range, a date, a request in XML.
#include <cstdlib>
#include <string>

#include "serve/net/dav/dav_names.h"
#include "serve/net/dav/dav_xml.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern::net;
  const std::string text(reinterpret_cast<const char*>(data), size);
  if (const auto path = share_path(text)) {
    for (const std::string& name : path->names)
      if (name.empty() || name == "." || name == ".." || name.find('/') != std::string::npos ||
          name.find('\0') != std::string::npos)
        std::abort();
    // What is printed leads to the same place.
    const auto again = share_path(href(path->names, path->ends_in_slash));
    if (!again || again->names != path->names) std::abort();
  }
  constexpr std::uint64_t kSize = 1000;
  bool past_end = false;
  const auto range = byte_range(text, kSize, past_end);
  if (range && (range->from >= kSize || range->length == 0 || range->length > kSize - range->from))
    std::abort();
  if (for_markup(text).find_first_of("<>\"'") != std::string::npos) std::abort();
  parse_http_date(text);
  if (const auto asked = parse_propfind(text))
    response({text, false, false, 1, {}, {}, {}, "0"}, "/", *asked, {});
  parse_lock(text);
  return 0;
}
