// Structure: a sector decoded field by field, with what is wrong about it; and two disks'
// structures side by side.
//
//   using namespace lantern::repair;
//   const Structure record = read_structure(target, "mbr", context);
//   for (const Field& field : record.fields)
//     if (!field.expected.empty()) ...
//
// Thread-safety: the functions may be called from any thread; what they return are values.
#pragma once

#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern::repair {

// What a field decides.
enum class Weight {
  identity,  // who the disk or volume is: two disks must differ in it
  derived,   // a checksum of other fields
  detail,    // little
  data,      // where files are found
  start      // whether a machine starts from the disk
};

std::string_view to_string(Weight weight);

struct Field {
  std::string name;  // "entry1.active"
  Range place;       // bytes, in the structure
  std::string value;
  Weight weight{};
  std::string about;     // what it decides
  std::string expected;  // the right value and why; empty: the value is valid
};

struct Structure {
  std::string name;          // as it is asked for: "mbr", "boot:2"
  std::string address;       // of the layer it lies in
  std::uint64_t offset = 0;  // bytes, in that layer
  std::vector<std::byte> bytes;
  std::vector<Field> fields;  // in order of place

  const Field* find(std::string_view name) const;
};

// By name: "mbr", "loader" (the sectors between it and the first volume), "gpt", "gpt:copy",
// "gpt:entries"; of volume N "boot:N", "loader:N" (the sectors behind its boot sector that belong
// to its boot code) and "superblock:N"; "mft:N", record N of the target's volume. By number: the
// sector of the target's volume or disk, with its fields when it is one of these. Throws
// Error{usage, not_found, cannot_read}.
Structure read_structure(const Target& target, const std::string& name, const Context& context);

// What a machine goes through to start, and the file systems' own records, in that order.
std::vector<Structure> structures_of(const Target& target, const Context& context);

struct Difference {
  std::string structure;
  std::string field;
  Range place;                   // bytes of the structure that differ, the first run of them
  std::string a, b;              // values; empty: the structure is not there
  std::string a_bytes, b_bytes;  // of `place`, hexadecimal, the first 16
  Weight weight{};
  std::string about;
  std::string a_expected, b_expected;
  bool can_be_taken = false;  // by plan_copy: it is right on both disks, and B's is not wrong
};

struct Comparison {
  std::vector<Difference> rows;      // what matters most for starting up first
  std::vector<Difference> identity;  // must differ, and checksums of what must
  std::uint64_t same = 0;            // fields
};

Comparison compare_structures(const Target& a, const Target& b, const Context& context);

// Raw bytes of the targets' volumes or disks: a row each run that differs, a thousand at
// most. What is past the end of either is not compared.
Comparison compare_bytes(const Target& a, const Target& b, Range range, const Context& context);

}  // namespace lantern::repair
