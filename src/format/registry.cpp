#include "lantern/format/registry.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <map>

#include "base/bytes.h"

namespace lantern {
namespace {

bool has_mark(const std::byte* sector, const FormatMark& mark) {
  return std::memcmp(sector + mark.at, mark.bytes.data(), mark.bytes.size()) == 0;
}

bool has_any_mark(const std::byte* sector, const Format& format) {
  return std::any_of(format.marks.begin(), format.marks.end(),
                     [&](const FormatMark& mark) { return has_mark(sector, mark); });
}

// Lower is better.
int rank(const Recognition& found) {
  const bool member = found.kind == FormatKind::array || found.kind == FormatKind::volume_manager ||
                      found.kind == FormatKind::encryption;
  const bool table = found.kind == FormatKind::partition_table;
  return (found.verified ? 0 : 16) + (found.from_copy ? 8 : 0) + (table ? 4 : 0) + (member ? 0 : 1);
}

std::optional<std::uint64_t> byte_of(const FormatPlace& place, std::uint64_t size) {
  const std::uint64_t end = size / place.align * place.align;
  if (place.from_end && end < place.offset) return std::nullopt;
  const std::uint64_t at = place.from_end ? end - place.offset : place.offset;
  if (at >= size || size - at < kSector) return std::nullopt;
  return at;
}

}  // namespace

std::string_view to_string(FormatKind kind) {
  constexpr std::array<std::string_view, 7> kNames = {
      "container", "partition table", "volume manager", "array", "encryption", "file system",
      "swap"};
  return kNames.at(static_cast<std::size_t>(kind));
}

Registry::Registry(std::vector<Format> formats) : formats_(std::move(formats)) {
  for (const Format& format : formats_)
    for (const FormatMark& mark : format.marks) {
      auto lookup = std::find_if(lookups_.begin(), lookups_.end(),
                                 [&](const Lookup& known) { return known.at == mark.at; });
      if (lookup == lookups_.end()) {
        lookups_.emplace_back().at = mark.at;
        lookup = std::prev(lookups_.end());
      }
      std::uint16_t first = 0;
      std::memcpy(&first, mark.bytes.data(), sizeof first);
      lookup->first_two.set(first);
      lookup->first.set(static_cast<unsigned char>(mark.bytes.front()));
    }
}

const Format* Registry::find(std::string_view name) const {
  const auto found = std::find_if(formats_.begin(), formats_.end(),
                                  [&](const Format& format) { return format.name == name; });
  return found == formats_.end() ? nullptr : &*found;
}

bool Registry::may_mark(const std::byte* sector) const {
  return std::any_of(lookups_.begin(), lookups_.end(), [&](const Lookup& lookup) {
    if (!lookup.first[std::to_integer<std::size_t>(sector[lookup.at])]) return false;
    std::uint16_t first = 0;
    std::memcpy(&first, sector + lookup.at, sizeof first);
    return lookup.first_two.test(first);
  });
}

void Registry::marks_of(const std::byte* sector,
                        const std::function<void(const Format&)>& visit) const {
  for (const Format& format : formats_)
    if (has_any_mark(sector, format)) visit(format);
}

std::vector<Recognition> Registry::probe(const ByteSource& source, std::uint64_t sector) const {
  std::vector<Recognition> found;
  Bytes bytes(kSector);
  if (source.read(sector, bytes).length < kSector) return found;
  marks_of(bytes.data(), [&](const Format& format) {
    auto one = format.probe(source, sector);
    if (!one) return;
    one->format = one->format.empty() ? std::string(format.name) : one->format;
    one->kind = format.kind;
    one->place = sector;
    one->is_read = format.is_read;
    found.push_back(std::move(*one));
  });
  return found;
}

std::vector<Recognition> Registry::recognise(const ByteSource& source) const {
  std::map<std::uint64_t, std::vector<const Format*>> places;
  for (const Format& format : formats_)
    for (const FormatPlace& place : format.places)
      if (const auto at = byte_of(place, source.size())) places[*at].push_back(&format);
  std::vector<Recognition> found;
  for (const auto& [at, formats] : places) {
    for (Recognition& one : probe(source, at)) {
      // What stands there may speak of a volume elsewhere: a copy, or a disk inside this one.
      const bool asked = std::any_of(formats.begin(), formats.end(), [&](const Format* format) {
        return find(one.format) == format || format->kind == one.kind;
      });
      const bool known = std::any_of(found.begin(), found.end(), [&](const Recognition& other) {
        return other.format == one.format && rank(other) <= rank(one);
      });
      if (asked && !known && one.range.offset == 0) found.push_back(std::move(one));
    }
  }
  std::stable_sort(found.begin(), found.end(),
                   [](const Recognition& a, const Recognition& b) { return rank(a) < rank(b); });
  return found;
}

}  // namespace lantern
