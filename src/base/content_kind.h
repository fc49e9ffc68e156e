// What a file is by its first bytes. Sources: the formats' own public specifications.
#pragma once

#include <string_view>

#include "base/bytes.h"

namespace lantern {

// Bytes of a start that are enough for content_kind.
constexpr std::size_t kKindBytes = 4096;

// A short name that is also the usual ending: "jpg", "pdf", "sqlite", "txt", ...; empty: not known.
std::string_view content_kind(ByteView start);

}  // namespace lantern
