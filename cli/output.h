// How results look: colour where it means something, findings, sizes and times.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "cli/app.h"
#include "cli/commands.h"
#include "lantern/lantern.h"

namespace lantern::cli {

enum class Meaning { plain, quiet, heading, good, deleted, damaged };

// The text in the colour of its meaning, or as it is when there is no colour.
std::string coloured(const Streams& streams, Meaning meaning, std::string_view text);

// "4.2 MiB", or "4 404 019" when exact.
std::string size_text(std::uint64_t bytes, bool exact);

// "2026-03-14 08:30:02", 19 characters, blank when there is none.
std::string time_text(const std::optional<Timestamp>& time);

// "100 %", "63 %", "?"; never "100 %" for less than all.
std::string intact_text(const std::optional<double>& intact);

// How bad, what, what was done instead; below it where, and its code. Many of one code in one layer
// are one, with a few of their places.
void print_findings(const Job& job, std::ostream& out);

// Characters of a text that is safe for a terminal.
std::size_t columns_of(std::string_view text);

// A text that begins in column `indent` of a terminal so many columns wide (0: any), in pieces of
// what is left there, each indented as far. Nothing is left out.
std::string broken_into(std::string_view text, std::size_t indent, std::size_t width);

// Lines of at most `width` characters, each after `indent` blanks but the first.
std::string wrapped(std::string_view text, std::size_t indent, std::size_t width = 100);
// The same as wide as the terminal; without a terminal, one line.
std::string fitted(const Streams& streams, std::string_view text, std::size_t indent);

// A path as it is written from here: relative when it lies below the current folder.
std::string path_from_here(const std::string& path);

// Rows of sixteen bytes as numbers and letters, numbered from `from` on.
void print_hex(std::ostream& out, std::span<const std::byte> bytes, std::uint64_t from = 0);

void findings_json(JsonWriter& json, const Job& job);

// "reading station.vdi::2: 41 user documents (28 pictures, ...); ..." when a volume was chosen.
void print_choice(const Job& job, const Target& target);

// "512", "20K", "4M", "1G", "2T": powers of 1024; empty for nothing. Throws Error{usage}.
std::optional<std::uint64_t> bytes_of(const std::string& text);

}  // namespace lantern::cli
