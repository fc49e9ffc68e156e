// An array as one byte source, from a stated geometry and its members: nothing is read to make it,
// so that many geometries can be tried.
//
//   const SourcePtr disk = make_array({5, 2, 65536, 4, 1 << 30}, {a, b, nullptr, d});
//
// A member that is missing or unreadable is computed from the others where the level has the means;
// what cannot be is unreadable, never zeros passed as data.
//
// Thread-safety: the source may be read from any thread.
#pragma once

#include <vector>

#include "lantern/byte_source.h"
#include "volume/array/geometry.h"

namespace lantern::array {

// `members`: the data of each, by slot, from the byte at which it begins; empty: missing. One that
// is shorter than its part of the array is unreadable from there on. `member_bytes`: what each has
// for data, the missing ones included; needed of linear arrays and level 0 alone. Throws
// Error{cannot_read} for a geometry that cannot be.
SourcePtr make_array(const Geometry& geometry, std::vector<SourcePtr> members,
                     std::vector<std::uint64_t> member_bytes = {});

// `how` of extents that are computed from others.
constexpr std::string_view kByParity = "computed from parity";
constexpr std::string_view kByCopy = "from another copy";

}  // namespace lantern::array
