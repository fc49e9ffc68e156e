// Disks whose block table is corrupt: which entries cannot be believed, which blocks of the file no
// entry speaks of, and where those belong. A block is placed only by evidence from what lies inside
// the disk; what has none is reported and never placed.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "container/mapped_disk.h"
#include "lantern/container.h"

namespace lantern {

// Where a loose unit of the file (a block, or what one table spans) can be read.
struct LoosePart {
  std::uint64_t within = 0;  // bytes into the unit
  std::uint64_t place = 0;   // bytes of the file
  std::uint64_t length = 0;
};

struct LooseUnit {
  std::vector<LoosePart> parts;
  Range file;  // what it takes up of the file, for reports
};

struct Placing {
  std::string format;  // for messages
  std::uint64_t disk_bytes = 0;
  std::uint64_t unit_bytes = 0;
  std::vector<LooseUnit> units;
  // Parts of the disk no entry can be believed for; loose units go here and nowhere else. Sorted.
  std::vector<Range> open;
  // The file is known to have its end: when every loose unit has a place, what is open then was
  // never written.
  bool complete = false;
};

struct Placed {
  std::map<std::uint64_t, std::size_t>
      units;                            // by their place on the disk: index in Placing::units
  std::set<std::uint64_t> inferred;     // places of those that nothing in them told
  std::shared_ptr<const BlockMap> map;  // with them, and with the rest of what is open lost
};

// Places what evidence gives a place, and the last one left when only one place is.
Placed place_by_evidence(const SourcePtr& file, std::shared_ptr<const BlockMap> map,
                         Placing placing, const Surroundings& around, const Context& context);

// What a format with one table says of it.
struct OneTable {
  std::string format;
  std::uint64_t disk_bytes = 0;
  std::uint64_t block_bytes = 0;
  Range blocks;                  // of the file: where blocks may lie
  std::uint64_t lead_bytes = 0;  // before the data of each block (a bitmap)
  bool complete = false;         // the file is known to have its end
  // So many blocks that no entry speaks of put blank entries in doubt; fewer may be what a crash
  // leaves of a writer that takes room first and enters it later.
  std::size_t least_loose = 1;
  std::vector<Range> taken;  // of the file: tables and the like that lie among the blocks
  // The bytes of the file that hold the table, when it begins or ends inside a sector.
  Range whole{0, ~std::uint64_t{0}};
  // The bytes of the file that hold the entry of a block; empty: it has none of its own.
  std::function<Range(std::uint64_t block)> entry;
  // What an entry says of a block whose data lies at a byte of the file; empty: of one without.
  std::function<Bytes(std::optional<std::uint64_t> place)> entry_for;
  // Bytes from an entry to its copy, before or behind it; 0: no copy is kept.
  std::int64_t to_copy = 0;
};

// Looks at a whole block table, once. `map` comes back as it is when nothing is wrong, or when the
// table is too large for a quick look.
std::shared_ptr<const BlockMap> mend_block_table(const SourcePtr& file,
                                                 std::shared_ptr<const BlockMap> map,
                                                 const OneTable& table, const Surroundings& around,
                                                 const Context& context);

}  // namespace lantern
