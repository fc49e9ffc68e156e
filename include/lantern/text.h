// Text for people, terminals and destination folders. Names from a disk are data: bytes of any
// kind.
//
// Thread-safety: pure functions.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace lantern {

bool is_valid_utf8(std::string_view bytes);

// UTF-8 with every invalid byte replaced by U+FFFD.
std::string to_valid_utf8(std::string_view bytes);

// Control characters: C0, DEL and C1.
bool is_control(std::uint32_t code);
// Marks that make a terminal show text in another order than it is stored.
bool is_direction_mark(std::uint32_t code);

// Safe to print on a terminal: valid UTF-8, control characters (C0, DEL, C1) and the marks that
// reverse the direction of text shown as \xHH.
std::string for_terminal(std::string_view bytes);

// A word of a command line, quoted where a shell would take it for more than one.
std::string for_shell(const std::string& word);

// A file name any Linux file system takes: no '/', control characters or direction marks, never "",
// "." or "..", valid UTF-8, at most 255 bytes (a longer one keeps its start, its ending and a hash
// of the rest). What is not allowed becomes %HH.
std::string safe_file_name(std::string_view name);

// UTF-16 units as UTF-8; a lone surrogate becomes its three-byte form, so that nothing is lost
// (the result is then not valid UTF-8).
std::string utf16_to_bytes(const std::vector<char16_t>& units);

// "4.2 MiB"; below 1 KiB "812 B". Units are powers of 1024.
std::string human_size(std::uint64_t bytes);

// 1234567 as "1 234 567".
std::string grouped(std::uint64_t number);

// "/Keeper/log.txt" of its names, as they are.
std::string path_text(const std::vector<std::string>& names);

// "1 file", "3 files": an s is the plural of what is counted here.
std::string counted(std::uint64_t number, std::string_view what);

std::string base64(std::string_view bytes);
// As far as it goes; what is no letter of base64, as white space, is passed over.
std::vector<std::byte> from_base64(std::string_view text);

// The name that a word with a slip or two most likely means; empty: none is near.
std::string nearest_name(std::string_view word, const std::vector<std::string>& names);

// The bytes of a text compared without regard to ASCII case.
bool equal_ignoring_case(std::string_view a, std::string_view b);

}  // namespace lantern
