// A record of the file table: its header, the numbers that guard its sectors against torn writes,
// and its attributes. Little-endian, offsets in bytes.
//   record: 0 "FILE"  4 2 offset, 6 2 count of the guard numbers  0x10 2 sequence  0x12 2 links
//     0x14 2 first attribute  0x16 2 flags: 1 in use, 2 folder  0x18 4 bytes used
//     0x20 8 base record, of one that only goes on with another's attributes
//   attribute: 0 4 type, FFFFFFFF the end  4 4 length  8 1 not resident  9 1 units of its name
//     0x0A 2 offset of its name  0x0C 2 flags: 00FF compressed 4000 encrypted 8000 sparse
//     0x0E 2 number; resident: 0x10 4 length 0x14 2 offset of its value
//     not resident: 0x10 8 first, 0x18 8 last cluster of it told of here  0x20 2 offset of its runs
//     0x22 2 clusters of a compressed unit, as a power of two  0x28 8 allocated  0x30 8 size
//     0x38 8 written
//   standard information: 0 8 created, 8 8 modified, 0x10 8 record changed, 0x18 8 accessed, as in
//     names.h  0x20 4 attribute bits  0x34 4 security id
//   A reference is a record's number (6 bytes) and the sequence it had (2).
// Source: the Linux kernel's documentation and headers of NTFS.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/range.h"

namespace lantern::ntfs {

enum AttributeType : std::uint32_t {
  kStandardInformation = 0x10,
  kAttributeList = 0x20,
  kFileName = 0x30,
  kVolumeName = 0x60,
  kVolumeInformation = 0x70,
  kData = 0x80,
  kIndexRoot = 0x90,
  kIndexAllocation = 0xA0,
  kReparsePoint = 0xC0,
  kExtendedAttributes = 0xE0,
};

struct Reference {
  std::uint64_t record = 0;
  std::uint16_t sequence = 0;
  friend bool operator==(const Reference&, const Reference&) = default;
};

inline Reference reference_at(ByteView bytes, std::size_t at) {
  const std::uint64_t value = le64(bytes, at);
  return {value & 0xFFFFFFFFFFFF, static_cast<std::uint16_t>(value >> 48)};
}

struct Attribute {
  std::uint32_t type = 0;
  std::string name;  // bytes of its UTF-16
  std::uint16_t flags = 0;
  bool resident = true;
  Range value;  // resident: in the record
  Range runs;   // not resident: of the run list, in the record
  std::uint64_t first_vcn = 0;
  std::uint8_t unit_shift = 0;
  std::uint64_t size_bytes = 0;  // these of the attribute's first piece only
  std::uint64_t written_bytes = 0;
  std::uint64_t allocated_bytes = 0;

  bool compressed() const { return !resident && (flags & 0x00FF) != 0 && unit_shift != 0; }
  bool encrypted() const { return (flags & 0x4000) != 0; }
};

struct Record {
  Bytes bytes;  // its guard numbers put back
  std::uint16_t sequence = 0;
  std::uint16_t links = 0;
  bool in_use = false;
  bool folder = false;
  bool torn = false;     // a sector is of another writing
  std::size_t used = 0;  // bytes
  Reference base;        // record 0: it is one itself
  std::vector<Attribute> attributes;

  bool is_base() const { return base.record == 0 && base.sequence == 0; }
  ByteView value_of(const Attribute& attribute) const {
    return slice(bytes, static_cast<std::size_t>(attribute.value.offset),
                 static_cast<std::size_t>(attribute.value.length));
  }
  const Attribute* find(std::uint32_t type) const;
};

// Puts back what the guard numbers stand for. False: the head is none that can be. `torn` is set
// when a sector does not bear the number.
bool restore_sectors(Bytes& bytes, bool& torn);

// Empty: no record. Attributes that cannot be are left out, and so is all behind them.
std::optional<Record> parse_record(Bytes bytes);

}  // namespace lantern::ntfs
