#include "repair/facets.h"

#include <algorithm>
#include <array>

#include "repair/apply/volume_guards.h"

namespace lantern::repair {

std::span<const RepairFacet> repair_facets() {
  static constexpr std::array<RepairFacet, 4> kFacets = {{
      {"ext", diagnose_ext, guard_ext, true},
      {"ntfs", diagnose_ntfs, guard_ntfs},
      {"exfat", diagnose_exfat},
      {"fat", diagnose_fat},
  }};
  return kFacets;
}

const RepairFacet* repair_facet(std::string_view format) {
  const auto facets = repair_facets();
  const auto found = std::find_if(facets.begin(), facets.end(),
                                  [&](const RepairFacet& one) { return one.format == format; });
  return found == facets.end() ? nullptr : &*found;
}

bool is_repaired_scheme(std::string_view scheme) {
  return scheme.empty() || scheme == "mbr" || scheme == "gpt";
}

}  // namespace lantern::repair
