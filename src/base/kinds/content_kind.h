// What a file is by its first bytes. Sources: the formats' own public specifications.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace lantern {

// Bytes of a start that are enough for content_kind.
constexpr std::size_t kKindBytes = 4096;

// A short name that is also the usual ending: "jpg", "pdf", "sqlite", "txt", ...; empty: not known.
std::string_view content_kind(ByteView start);

// The same by the bytes that mark a kind alone: no text, and of zips no more than that.
std::string_view marked_kind(ByteView start);

// Whether these bytes are text: valid UTF-8, of which the end may cut a character, with no control
// characters but those of lines.
bool is_text(ByteView bytes);

// The kinds that a word means, in any case: one of them ("jpg"), another usual name of it ("jpeg"),
// a family ("picture"). Empty: it means none.
std::vector<std::string_view> content_kinds(std::string_view word);
// The words there are, families first.
std::string content_kind_words();

}  // namespace lantern
