#include "lantern/volume_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "lantern/sources.h"
#include "source/given.h"

namespace lantern {
namespace {

// What a scheme makes of the disk at one sector size, with a sink of its own: only that of the
// table taken is told.
struct Candidate {
  const Format* scheme = nullptr;
  VolumeTable table;
  std::shared_ptr<FindingSink> findings = std::make_shared<FindingSink>();
};

// How a table fits what lies on the disk.
struct TableFit {
  std::size_t well = 0;  // volumes at whose start something known stands
  std::size_t cut = 0;   // volumes that end before what verifiably begins there does
};

TableFit fit_of(const VolumeTable& table, const SourcePtr& disk, const Registry& formats) {
  TableFit fit;
  for (const VolumeRow& row : table.rows) {
    if (row.range.empty() || row.range.offset >= disk->size()) continue;
    const SourcePtr volume = make_window(disk, row.range);
    const auto found = formats.recognise(*volume);
    Bytes start(512);
    volume->read(0, start);
    fit.well +=
        has_boot_mark(start) || std::any_of(found.begin(), found.end(), [](const Recognition& one) {
          return one.kind != FormatKind::partition_table;
        });
    fit.cut += std::any_of(found.begin(), found.end(), [&](const Recognition& one) {
      return one.kind == FormatKind::file_system && one.verified && !one.from_copy &&
             one.range.offset == 0 && one.range.length > row.range.length;
    });
  }
  return fit;
}

std::vector<std::uint32_t> sizes_to_try(const ByteSource& disk,
                                        std::optional<std::uint32_t> sector_size) {
  if (sector_size) return {*sector_size};
  const std::uint32_t own = disk.logical_sector_size().value_or(512);
  return {own, own == 512 ? 4096u : 512u};
}

// A scheme's name as it is spoken of: "GPT".
std::string spoken(const Format& scheme) {
  std::string name(scheme.name);
  for (char& c : name)
    if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
  return name;
}

std::optional<Candidate> read_as(const Format& scheme, const SourcePtr& disk,
                                 const std::vector<std::uint32_t>& sizes, const Registry& formats,
                                 const Context& context) {
  std::optional<Candidate> best;
  for (const std::uint32_t size : sizes) {
    Candidate next;
    next.scheme = &scheme;
    Context own = context;
    own.findings = next.findings;
    auto table = scheme.read_table(disk, size, own);
    if (!table) continue;
    next.table = std::move(*table);
    if (!best || fit_of(next.table, disk, formats).well > fit_of(best->table, disk, formats).well)
      best = std::move(next);
  }
  return best;
}

}  // namespace

VolumeTable read_volume_table(const SourcePtr& disk, std::optional<std::uint32_t> sector_size,
                              const Registry& formats, const Context& context) {
  const std::vector<std::uint32_t> sizes = sizes_to_try(*given(disk), sector_size);
  std::optional<Candidate> taken;
  for (const Format& scheme : formats.formats()) {
    if (scheme.read_table == nullptr) continue;
    auto next = read_as(scheme, disk, sizes, formats, context);
    if (!next) continue;
    if (!taken) {
      taken = std::move(next);
      continue;
    }
    // Two tables: the first counts, unless the other leads to as much, or the first cuts more of
    // what lies there. Older tables stay behind on used disks.
    if (next->table.rows.empty()) continue;
    const TableFit first = fit_of(taken->table, disk, formats);
    const TableFit second = fit_of(next->table, disk, formats);
    if (second.well < first.well && first.cut <= second.cut) continue;
    context.report(FindingCode::gpt_stale, Severity::note, {},
                   fmt::format("an older {} is beside an {} whose volumes are there",
                               spoken(*taken->scheme), spoken(*next->scheme)),
                   fmt::format("the {} is used", spoken(*next->scheme)));
    taken = std::move(next);
  }
  VolumeTable table;
  table.sector_size = sizes.front();
  if (taken) {
    taken->findings->forward_to(context.findings);
    table = std::move(taken->table);
    table.scheme = taken->scheme->name;
  }
  const auto own = disk->logical_sector_size();
  if (own && !table.rows.empty() && table.sector_size != *own)
    context.report(FindingCode::table_sector_size, Severity::warning, {},
                   fmt::format("the disk has sectors of {} bytes, its table was made for {}", *own,
                               table.sector_size),
                   fmt::format("the table is read with sectors of {}", table.sector_size));
  return table;
}

}  // namespace lantern
