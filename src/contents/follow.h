// A content whose first byte is known and whose end is not: how far it can be followed, and how
// much of it is checked.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <optional>
#include <string>

#include "base/kinds/signatures.h"
#include "catalog/finds.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// What a check of a content whose end is not known says of it.
struct FollowedContent {
  Grade grade{};
  bool verified = false;
  std::uint64_t length = 0;  // bytes
  // Where the check broke: what is wrong begins at or behind the first byte, and before the second.
  // Both 0: it did not.
  std::uint64_t breaks = 0, breaks_before = 0;
  bool complete = false;  // it was followed to its end
  bool past_end = false;  // it broke since it would go on past the end of the disk
  std::string why;
  std::uint64_t work = 0;  // bytes that were read for it
  bool gave_up = false;    // for want of work it may do
};

// Empty: it is not of this kind. `max_work`: bytes. Throws Error{stopped}.
std::optional<FollowedContent> follow_content(const ByteSource& bytes, const SignatureKind& kind,
                                              std::uint64_t max_work, const Context& context);

}  // namespace lantern
