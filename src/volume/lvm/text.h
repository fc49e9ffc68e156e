// The text in which LVM describes a group: sections in braces, values, comments from '#'.
//   NAME { ... }     KEY = 12     KEY = "text"     KEY = [ "a", 0, "b" ]
// Source: LVM2's lvm.conf(5) and vgcfgbackup(8), which describe the same syntax.
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace lantern::lvm {

struct Scalar {
  std::string text;                     // as written, a number too
  std::optional<std::uint64_t> number;  // of what is one, not below 0
};

struct Section {
  std::string name;
  std::vector<std::pair<std::string, std::vector<Scalar>>> values;  // a scalar is a list of one
  std::vector<Section> sections;

  const Section* section(std::string_view wanted) const;
  const std::vector<Scalar>* list(std::string_view key) const;
  std::string text(std::string_view key) const;                     // empty: there is none
  std::optional<std::uint64_t> number(std::string_view key) const;  // of the first in a list
  std::vector<std::string> texts(std::string_view key) const;
};

// Empty: it breaks off or is not in this syntax. Memory grows with the text.
std::optional<Section> parse_text(std::string_view text);

}  // namespace lantern::lvm
