#include "contents/follow.h"

#include <fmt/format.h>

#include <algorithm>

#include "contents/kinds.h"

namespace lantern {
namespace {

// The most that may lie between two checks of what is called whole: one block of a file system, as
// other files would take its place.
constexpr std::uint64_t kMaxUnchecked = 4096;

std::optional<std::uint64_t> end_by_mark(kinds::KindReader& file, const SignatureKind& kind) {
  for (std::uint64_t at = 1; kind.ends;) {
    const std::string& mark = kind.ends->bytes;
    const auto found = file.find(at, mark.substr(0, 1), kind.longest - std::min(at, kind.longest));
    if (!found) return std::nullopt;
    if (file.has(*found, mark.size()) && kind.ends->fits(file.view(*found, mark.size())))
      return *found + mark.size();
    at = *found + 1;
  }
  return std::nullopt;
}

// Of a kind that somebody described, without a check of its inside.
kinds::Held check_described(kinds::KindReader& file, const SignatureKind& kind) {
  file.prove();
  std::uint64_t longest = kind.longest;
  if (kind.length) {
    const LengthField& field = *kind.length;
    const ByteView bytes = file.view(field.at, field.bytes);
    std::uint64_t length = 0;
    for (std::size_t i = 0; i < field.bytes; ++i)
      length = length << 8 |
               std::to_integer<std::uint64_t>(bytes[field.big_endian ? i : field.bytes - 1 - i]);
    if (length > ~std::uint64_t{0} - field.plus || length + field.plus == 0 ||
        (longest > 0 && length + field.plus > longest))
      file.broken(field.at, "its length is invalid");
    length += field.plus;
    file.declare(length);
    if (!file.has(0, length)) file.cut(file.size(), "it ends before its end");
    return {false, length, "its length is recorded in it; nothing else is checked"};
  }
  if (const auto end = end_by_mark(file, kind))
    return {false, *end, "from its first mark to its last; nothing between is checked"};
  const std::uint64_t end = std::min(longest, file.size());
  if (kind.ends) file.cut(end, "its last mark is not there");
  return {false, end, "its first mark, and as much behind it as a file of its kind may have"};
}

std::string reason(const kinds::Held& held) {
  if (held.verified || held.unchecked_bytes <= kMaxUnchecked) return held.why;
  if (held.unchecked_bytes >= held.length_bytes) return held.why + "; nothing checks its content";
  return fmt::format("{}; up to {} bytes between two checks", held.why, held.unchecked_bytes);
}

}  // namespace

std::optional<FollowedContent> follow_content(const ByteSource& bytes, const SignatureKind& kind,
                                              std::uint64_t max_work, const Context& context) {
  kinds::KindReader file(bytes, context, true, max_work);
  const kinds::Check check = kinds::check_by_name(kind.check);
  FollowedContent followed;
  try {
    const kinds::Held held = check != nullptr ? check(file) : check_described(file, kind);
    const bool covered = held.verified || held.unchecked_bytes <= kMaxUnchecked;
    followed.length = held.length_bytes;
    followed.verified = held.verified && !file.first_flaw();
    followed.grade = covered && !file.first_flaw() ? Grade::whole : Grade::doubtful;
    followed.why = reason(held);
    if (const auto& flaw = file.first_flaw()) {
      followed.breaks = flaw->at;
      followed.breaks_before = std::max(flaw->until, flaw->at);
      followed.why = fmt::format("{}, at byte {}", flaw->why, flaw->at);
    }
    followed.complete = true;
  } catch (const kinds::Break& met) {
    followed.work = file.work();
    followed.gave_up = file.work() > max_work;
    if (!file.is_proven() && !followed.gave_up) return std::nullopt;
    const bool end_known = !file.open_end();
    // What was wrong first is what led there.
    const kinds::Break& first = file.first_flaw() ? *file.first_flaw() : met;
    followed.breaks = first.at;
    followed.breaks_before = std::max(first.at, first.until);
    followed.past_end = met.structure == StructureState::cut && met.at >= bytes.size();
    // With the part that is wrong somewhere: most of that may be right.
    const std::uint64_t sound = std::max({first.at, first.until, file.declared()});
    // What goes on past the end of the disk by a figure that may be of another file.
    constexpr std::uint64_t kMaxUnknown = 16u << 20;
    followed.length = std::min(
        {std::max({met.at, met.until, file.declared()}), sound + kMaxUnknown, file.size()});
    followed.grade = met.structure == StructureState::contradictory
                         ? (end_known ? Grade::doubtful : Grade::cut)
                     : met.structure == StructureState::cut ? Grade::cut
                                                            : Grade::doubtful;
    followed.why = fmt::format("{}, at byte {}", first.why, first.at);
  }
  followed.work = file.work();
  return followed;
}

}  // namespace lantern
