// Where ISO 9660 has what, in bytes. Numbers stand in both orders; the little-endian one is read.
//
// Volume descriptors: blocks of 2048 bytes from 16 on, up to one of type 255.
//   0x00 1 type: 0 boot record, 1 primary, 2 supplementary, 255 the last   0x01 5 "CD001"
//   0x28 32 label   0x50 8 blocks   0x58 32 escape sequences (a supplementary one's: Joliet is %/@,
//   %/C or %/E, its names UTF-16 big-endian)   0x80 4 bytes of a block   0x9C 34 the root's record
//   0x32D, 0x33E 17 when it was made and changed, as digits
// Record of a folder, never across a block's end; length 0: on to the next block of 2048
//   0x00 1 its length   0x01 1 blocks of attributes before the content   0x02 8 first block
//   0x0A 8 bytes   0x12 7 time   0x19 1 flags   0x1A 1 blocks of a unit, 0x1B 1 of the gap behind
//   it 0x20 1 bytes of the name   0x21 name ("\0" the folder itself, "\1" the one above), made
//   even; then what the system uses
// Time: years since 1900, month, day, hour, minute, second, quarters of an hour east of Greenwich.
// Boot record of El Torito: 0x07 "EL TORITO SPECIFICATION", 0x47 4 block of the catalog, whose
//   entries of 32 bytes begin with a validation entry.
//
// Source: ECMA-119, 4th edition; the Joliet Specification of 1995; El Torito Bootable CD-ROM Format
// Specification 1.0.
#pragma once

#include <cstddef>
#include <cstdint>

namespace lantern::iso9660 {

constexpr std::uint64_t kBlock = 2048;
constexpr std::uint64_t kFirstDescriptor = 16;  // block, from where a session begins
constexpr std::size_t kMaxDescriptors = 64;

enum DescriptorType : std::uint8_t {
  kBootRecord = 0,
  kPrimary = 1,
  kSupplementary = 2,
  kLast = 255
};

constexpr std::size_t kMark = 1;
constexpr std::size_t kLabel = 0x28;
constexpr std::size_t kLabelBytes = 32;
constexpr std::size_t kBlocks = 0x50;
constexpr std::size_t kEscapes = 0x58;
constexpr std::size_t kBlockBytes = 0x80;
constexpr std::size_t kRootRecord = 0x9C;
constexpr std::size_t kMade = 0x32D;
constexpr std::size_t kChanged = 0x33E;
constexpr std::size_t kTimeDigits = 17;

constexpr std::size_t kRecordBytes = 33;  // without its name
constexpr std::uint8_t kHidden = 0x01;
constexpr std::uint8_t kFolder = 0x02;
constexpr std::uint8_t kAssociated = 0x04;
constexpr std::uint8_t kGoesOn = 0x80;  // the next record is of the same file

constexpr std::size_t kBootSystem = 0x07;
constexpr std::size_t kBootCatalog = 0x47;

}  // namespace lantern::iso9660
