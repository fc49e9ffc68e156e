// LUKS volumes as the registry knows them: see header.h for the layout.
#include <fmt/format.h>

#include "format/named/named.h"
#include "lantern/text.h"
#include "volume/formats.h"
#include "volume/luks/header.h"

namespace lantern {
namespace luks {
namespace {

using namespace std::string_view_literals;

std::string in_slots(const Header& header) {
  if (!header.slots_in_use) return "a passphrase or a key file; its list of key slots is damaged";
  if (*header.slots_in_use == 0)
    return "a passphrase or a key file, but no key slot of its header is in use";
  return fmt::format("a passphrase or a key file ({} in use)",
                     counted(*header.slots_in_use, "key slot"));
}

std::optional<Recognition> probe(const ByteSource& source, std::uint64_t at) {
  const auto copy = read_header_at(source, at);
  if (!copy) return std::nullopt;
  const Header& header = copy->header;
  auto found = named::begins(at, copy->own_place,
                             header.version == 1 ? "LUKS1"
                             : header.from_copy  ? "LUKS2 (its first header is lost)"
                                                 : "LUKS2");
  if (!found) return std::nullopt;
  found->format = header.version == 1 ? "luks1" : "luks2";
  found->from_copy = header.from_copy;
  // A second copy speaks where the first does not.
  if (header.from_copy && read_header_at(source, found->range.offset)) return std::nullopt;
  found->uuid = header.uuid;
  found->label = header.label;
  found->verified = header.sum_is_right;
  found->required_key = in_slots(header);
  return found;
}

}  // namespace
}  // namespace luks

Format luks_format() {
  using namespace std::string_view_literals;
  // Where a second LUKS2 header lies, by the length of the first.
  std::vector<FormatPlace> headers = {{0}};
  for (std::uint64_t place = 0x4000; place <= 0x400000; place *= 2) headers.push_back({place});
  return {"luks",
          FormatKind::encryption,
          {{0, "LUKS\xBA\xBE"sv}, {0, "SKUL\xBA\xBE"sv}},
          headers,
          luks::probe};
}

}  // namespace lantern
