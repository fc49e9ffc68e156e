// ArrayStatement: the geometry of an array as somebody states it, where its members record none. As
// a file it is a source by itself (docs/formats/array.md).
//
//   ArrayStatement stated = parse_array_step("5,chunk=64K,layout=left-symmetric");
//   stated.members = {"a.img", "-", "c.img"};
//   const std::string text = print_array_file(stated);
//
// Thread-safety: values; pure functions.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lantern {

struct ArrayStatement {
  int level = 0;       // -1 linear, 0, 1, 4, 5, 6, 10
  std::string layout;  // "left-symmetric", "n2"; empty: the usual one
  std::uint64_t chunk_bytes = 0;
  std::uint64_t start_bytes = 0;              // at which the data of each member begin
  std::optional<std::uint64_t> member_bytes;  // of data on each; empty: as much as the smallest has
  std::optional<std::uint64_t> volume;        // of each member: its number; empty: the whole disk
  std::vector<std::string> members;           // by slot: in a file addresses, in a step names; "-"
                                              // is a hole; empty: all of the set as they come

  friend bool operator==(const ArrayStatement&, const ArrayStatement&) = default;
};

// "5,chunk=64K,layout=left-symmetric,order=a.img/-/c.img,start=1M,size=1G,volume=2". Throws
// Error{usage}.
ArrayStatement parse_array_step(std::string_view text);
std::string print_array_step(const ArrayStatement& stated);

// The text of such a file; empty when it is not one. Throws Error{cannot_open} for one with a
// mistake, with the line.
std::optional<ArrayStatement> parse_array_file(std::string_view text, const std::string& name);
std::string print_array_file(const ArrayStatement& stated);

// "RAID 5, left-symmetric, chunks of 64 KiB, 4 members".
std::string in_words(const ArrayStatement& stated);

}  // namespace lantern
