#include "volume/overlaps.h"

#include <fmt/format.h>

#include <algorithm>

namespace lantern {

void report_overlaps(const VolumeTable& table, FindingCode code, const Context& context) {
  std::vector<const VolumeRow*> rows;
  for (const VolumeRow& row : table.rows) rows.push_back(&row);
  std::stable_sort(rows.begin(), rows.end(), [](const VolumeRow* a, const VolumeRow* b) {
    return a->range.offset < b->range.offset;
  });
  const VolumeRow* farthest = nullptr;
  for (const VolumeRow* row : rows) {
    if (farthest != nullptr) {
      const Range both = intersect(farthest->range, row->range);
      if (!both.empty())
        context.report(code, Severity::warning, both,
                       fmt::format("volumes {} and {} overlap", farthest->number, row->number),
                       "both are read as the table has them");
    }
    if (farthest == nullptr || row->range.end() > farthest->range.end()) farthest = row;
  }
}

}  // namespace lantern
