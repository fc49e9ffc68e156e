// The records of a zip file: what they begin with, and how long they are without their names.
// Source: PKWARE APPNOTE 6.3, 4.3.
#pragma once

#include <cstdint>
#include <string_view>

namespace lantern::kinds::zip {

constexpr std::string_view kLocal("PK\3\4", 4), kCentral("PK\1\2", 4), kEnd("PK\5\6", 4);
constexpr std::uint64_t kEndBytes = 22, kLocalBytes = 30, kCentralBytes = 46;

}  // namespace lantern::kinds::zip
