// Header of an LVM physical volume, and the descriptions of its group that it keeps. Little-endian,
// offsets in bytes.
//   label, in one of sectors 0 to 3: 0 "LABELONE"  8 own sector  16 sum from 20 on  20 offset of
//   the
//     header  24 "LVM2 001"
//   header: 0 id (32 letters)  32 bytes of the device  40 places: start 8, length 8; those of data
//   up
//     to a pair of zeros, then those of metadata up to another
//   metadata area: 0 sum from 4 to 512  4 " LVM2 x[5A%r0N*>"  20 version 1  24 own place  32 length
//     40 texts: place in the area 8, length 8, sum 4, flags 4 (bit 0: not used), up to zeros
//     From 512 on a ring of texts, each begun on a sector of 512; what goes past its end goes on at
//     512. Older ones stay until they are written over.
//   Sums: CRC-32 begun with F597A6CF and not inverted.
// Source: LVM2's source, lib/format_text/layout.h, and lvm(8).
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::lvm {

constexpr std::string_view kAreaMark = {" LVM2 x[5A%r0N*>", 16};

struct MetadataText {
  std::string text;
  std::uint64_t place = 0;  // byte of the physical volume
  bool current = false;     // the area's header names it, and its sum is right
};

struct MetadataArea {
  std::uint64_t place = 0;  // byte of the physical volume
  std::uint64_t bytes = 0;
  bool header_is_right = false;
  bool ignored = false;  // LVM keeps it without using it
  std::vector<MetadataText> texts;
};

struct PvHeader {
  std::string id;           // 32 letters; empty: the label is lost
  std::uint64_t label = 0;  // byte at which it stands
  bool label_is_right = false;
  std::uint64_t device_bytes = 0;
  std::vector<MetadataArea> areas;

  bool is_there() const { return !id.empty() || !areas.empty(); }
};

// What is left of the header of a physical volume that begins at byte 0. The ring of texts is read
// only with `older`. `area_bytes`: of the area that is looked at in the usual place where nothing
// says that there is one; 0: none is.
PvHeader read_header(const ByteSource& source, bool older, const Context& context,
                     std::uint64_t area_bytes = 0);

// LVM's sum of bytes.
std::uint32_t sum_of(const std::byte* bytes, std::size_t length);

}  // namespace lantern::lvm
