// The text in which LVM describes a group, changed in places: what is not named stays as it is,
// letter by letter (syntax: volume/lvm/text.h).
//
// Thread-safety: pure functions.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lantern::lvm {

// Names of sections from the outermost in.
using SectionPath = std::vector<std::string>;

// Another value of a key, with what stands behind it in its line (a comment) left out. False: there
// is no such key, or its value is a list.
bool set_value(std::string& text, const SectionPath& section, std::string_view key,
               std::string_view value);

// Lines before the brace that ends a section. False: there is no such section.
bool append_lines(std::string& text, const SectionPath& section, std::string_view lines);

}  // namespace lantern::lvm
