// Superblock of a member of a Linux software array (md). Offsets in bytes.
//   1.x, little-endian, at 0 (1.1), at 4096 (1.2), 8 KiB before the end, on 4 KiB (1.0):
//      0 A92B4EFC   4 version 1   8 features   16 id of the set (16)   32 its name (32)
//     64 time of making (40 bits of seconds)   72 level   76 layout   80 used of each (sectors)
//     88 chunk (sectors)   92 members   96 place of the bitmap (sectors from here, signed)
//    100 new level   104 reshape position (sectors of the array)   112 change of members, signed
//    116 new layout   120 new chunk   124 change of the start of data (sectors, signed)
//    128 start and 136 length of data   144 own place (sectors)   152 rebuilt up to (sectors)
//    160 number of this device   168 its id (16)   184 flags   185 shift, 186 sectors and 188 place
//        (sectors from here) of the list of bad blocks
//    192 time of the last change   200 events   208 in step up to (sectors)   216 sum   220 devices
//    256 role of each (2): slot, FFFF spare, FFFE failed, FFFD journal
//   0.90, in either byte order, in the last 64 KiB but one, on 64 KiB; words of 4:
//      0 A92B4EFC   1 version 0   2 90, while it is reshaped 91   5, 13 to 15 id of the set
//      7 level   8 used of each (KiB)   10 members   11 number of the array   32 time of the last
//      change   33 state (bit 0: clean)   38 sum   39, 40 events (low word first if little-endian)
//     44, 45 reshape position   46 new level   47 change of members   48 new layout   49 new chunk
//     64 layout   65 chunk (bytes)   128 to 991 27 devices of 32: 3 slot, 4 state   992 this device
// Source: the Linux kernel's header md_p.h and documentation of md.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "volume/array/geometry.h"

namespace lantern::md {

constexpr std::uint16_t kSpare = 0xFFFF, kFailed = 0xFFFE, kJournal = 0xFFFD;

// A change of the geometry that is under way.
struct Reshape {
  array::Geometry to;
  std::uint64_t position_bytes = 0;     // of the array
  bool backwards = false;               // it goes from the end to the start
  std::int64_t data_offset_change = 0;  // bytes, of this member, for what is in the new geometry
};

struct Superblock {
  std::string version;          // "0.90", "1.0", "1.1", "1.2"
  std::uint64_t place = 0;      // byte of what was asked at which it was read
  std::uint64_t own_place = 0;  // byte of the member, as it records it itself
  bool sum_is_right = false;
  std::string set_uuid;      // 32 hexadecimal digits
  std::string name;          // "0", "skerrow:0"; may be empty
  std::string device_uuid;   // of 1.x
  array::Geometry geometry;  // the one before a reshape
  std::optional<Reshape> reshape;
  std::uint32_t device = 0;          // number of this one
  std::vector<std::uint16_t> roles;  // by number of device: slot, or kSpare, kFailed, kJournal
  std::uint64_t events = 0;
  std::uint64_t updated = 0;      // seconds since 1970
  std::uint64_t data_offset = 0;  // byte of the member
  std::uint64_t data_bytes = 0;
  std::optional<std::uint64_t> rebuilt_bytes;  // of this member's data; empty: all of it
  std::optional<std::uint64_t> in_step_bytes;  // of each member; behind it copies may differ
  std::int64_t bitmap_place = 0;               // byte of the member; 0: none
  bool has_journal = false;                    // changes may wait on another device
  bool has_partial_parity = false;             // a log of parity lies with the members
  bool replaces = false;                       // it is to take the place of another member
  std::uint64_t bad_blocks_place = 0, bad_blocks_bytes = 0;  // its list; 0: none
  std::uint8_t bad_blocks_shift = 0;

  std::uint16_t role() const { return role_of(device); }
  std::uint16_t role_of(std::uint32_t number) const {
    return number < roles.size() ? roles[number] : kSpare;
  }
};

// The superblock at a byte of `source`; empty: there is none whose figures can be. Of 0.90 the
// member is taken to begin at byte 0.
std::optional<Superblock> read_superblock(const ByteSource& source, std::uint64_t at);

// That of a member that begins at byte 0 of `source`: of several the one with the right sum and the
// most events.
std::optional<Superblock> find_superblock(const ByteSource& source);

// Stores the sum of a whole superblock in it.
void store_superblock_sum(Bytes& superblock);

// Ranges of a member that its list of bad blocks names, bytes of the member.
std::vector<Range> bad_blocks(const ByteSource& member, const Superblock& super);

}  // namespace lantern::md
