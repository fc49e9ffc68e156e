// What a client of the network block device protocol may send, cut at any place.
#include <cstdlib>
#include <span>

#include "serve/net/nbd_protocol.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lantern;
  const auto bytes = std::as_bytes(std::span(data, size));
  constexpr std::uint64_t kExport = 48u << 20;
  if (const auto asked = nbd::request(bytes)) {
    const bool moves = asked->command == nbd::kRead || asked->command == nbd::kWrite;
    const bool taken = nbd::why_refused(*asked, kExport, true) == 0;
    // What is taken lies inside the export and inside what is held in memory.
    if (taken && moves &&
        (asked->length > nbd::kMaxRequest || asked->offset > kExport ||
         asked->length > kExport - asked->offset))
      std::abort();
  }
  if (nbd::option_head(bytes) && size > nbd::kOptionBytes) {
    const auto rest = bytes.subspan(nbd::kOptionBytes);
    if (const auto info = nbd::info_request(rest); info && info->name.size() > rest.size())
      std::abort();
    if (const auto meta = nbd::meta_request(rest); meta && meta->queries.size() > rest.size())
      std::abort();
  }
  nbd::info_request(bytes);
  nbd::meta_request(bytes);
  return 0;
}
