// What repair knows of the file systems that are read, beside their entries in the registry: a line
// a format. One that has none here is left alone.
//
// Thread-safety: constant.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {

// Why a write is refused, and what to do instead.
struct Refusal {
  std::string why;
  Advice next_step;
};

struct RepairFacet {
  std::string_view format;  // its name in the registry
  void (*diagnose)(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                   const Context& context) = nullptr;
  // Whether the system the volume belongs to is asleep, or its log will write over what is
  // `touched` (bytes of the volume). May be empty. `context`: its findings are those of opening.
  std::optional<Refusal> (*guard)(const VolumeLayer& volume, const std::vector<Range>& touched,
                                  const Context& context) = nullptr;
  bool has_superblock = false;  // a structure "superblock" is decoded
};

// In the order in which a volume that is not accessible is asked what it was.
std::span<const RepairFacet> repair_facets();
// Empty pointer: none.
const RepairFacet* repair_facet(std::string_view format);
// Whether a partition table of this scheme is repaired here; empty: a disk that has none.
bool is_repaired_scheme(std::string_view scheme);
inline bool is_repaired(const Recognition& found) {
  return repair_facet(found.format) != nullptr;
}

}  // namespace lantern::repair
