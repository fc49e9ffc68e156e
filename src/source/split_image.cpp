#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <set>

#include "lantern/sources.h"
#include "source/given.h"

namespace lantern {
namespace {

constexpr std::size_t kDigits = 3;

// The number in ".001"; 0 when the name does not end so.
unsigned piece_number(std::string_view name) {
  if (name.size() < kDigits + 2 || name[name.size() - kDigits - 1] != '.') return 0;
  const std::string_view digits = name.substr(name.size() - kDigits);
  unsigned number = 0;
  const auto [end, error] = std::from_chars(digits.data(), digits.data() + kDigits, number);
  return error == std::errc{} && end == digits.data() + kDigits ? number : 0;
}

}  // namespace

std::optional<SourcePtr> open_split_image(std::string_view name, SourcePtr first,
                                          const Neighbours& neighbours, const Context& context) {
  given(first);
  const unsigned own_number = piece_number(name);
  if (own_number == 0) return std::nullopt;
  const std::string stem(name.substr(0, name.size() - kDigits));
  std::set<unsigned> present;
  for (const std::string& other : neighbours.names())
    if (other.size() == name.size() && other.compare(0, stem.size(), stem) == 0)
      if (const unsigned number = piece_number(other); number != 0) present.insert(number);
  if (own_number != 1) {
    if (present.contains(1))
      context.report(FindingCode::source_piece_of_split, Severity::warning, {},
                     fmt::format("this is piece {} of a split image", own_number),
                     fmt::format("read by itself; open {}001 for the whole disk", stem));
    return std::nullopt;
  }
  if (present.empty() || *present.rbegin() == 1) return std::nullopt;

  const std::uint64_t piece_bytes = first->size();
  const unsigned last = *present.rbegin();
  std::vector<Piece> pieces;
  std::uint64_t at = 0;
  for (unsigned number = 1; number <= last; ++number) {
    const std::string piece_name = fmt::format("{}{:03}", stem, number);
    std::optional<SourcePtr> piece =
        number == 1 ? std::optional(first) : neighbours.open(piece_name);
    const std::uint64_t have = piece ? (*piece)->size() : 0;
    if (!piece)
      context.report(FindingCode::source_piece_missing, Severity::damage, {at, piece_bytes},
                     fmt::format("piece {} is not here", piece_name),
                     "its place is kept and read as lost");
    else
      pieces.push_back({ExtentKind::direct, have, *piece, 0});
    // Every piece but the last is as long as the first: a shorter one has lost its end.
    if (number != last && have < piece_bytes) {
      if (piece)
        context.report(FindingCode::source_piece_size, Severity::damage,
                       {at + have, piece_bytes - have},
                       fmt::format("piece {} is shorter than the first", piece_name),
                       "the rest of its place is read as lost");
      pieces.push_back({ExtentKind::unreadable, piece_bytes - have, nullptr, 0});
    }
    at += number != last ? std::max(have, piece_bytes) : have;
  }
  return make_joined(std::move(pieces));
}

}  // namespace lantern
