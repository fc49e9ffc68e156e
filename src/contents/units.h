// The parts that files of some kinds are a row of: chunks, pages, frames, members. Whether one
// stands at a byte is told without what is before it.
//
// Thread-safety: as the reader.
#pragma once

#include <string_view>

#include "contents/kind_reader.h"

namespace lantern::kinds {

// The byte behind the part at `at`; throws Break where none stands.
using PastUnit = std::uint64_t (*)(KindReader& file, std::uint64_t at);

std::uint64_t past_png_chunk(KindReader& file, std::uint64_t at);
std::uint64_t past_ogg_page(KindReader& file, std::uint64_t at);
std::uint64_t past_flac_frame(KindReader& file, std::uint64_t at);
std::uint64_t past_mpeg_frame(KindReader& file, std::uint64_t at);
std::uint64_t past_tar_member(KindReader& file, std::uint64_t at);
std::uint64_t past_riff_chunk(KindReader& file, std::uint64_t at);
std::uint64_t past_ebml_element(KindReader& file, std::uint64_t at);

// By the name that signatures have for the check; null: it is no row of parts.
PastUnit unit_of(std::string_view check);

}  // namespace lantern::kinds
