#include "lantern/volume_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "lantern/sources.h"
#include "source/given.h"
#include "volume/gpt.h"
#include "volume/mbr.h"

namespace lantern {
namespace {

// A table read with a sink of its own, so that only the one taken has its findings told.
struct Attempt {
  std::optional<VolumeTable> table;
  std::vector<Finding> findings;
};

template <typename Reader>
Attempt attempt(Reader read, const SourcePtr& disk, std::uint32_t sector_size,
                const Context& context) {
  Context own = context;
  own.findings = std::make_shared<FindingSink>();
  Attempt result;
  result.table = read(disk, sector_size, own);
  result.findings = own.findings->all();
  return result;
}

VolumeTable accept(Attempt attempt, const Context& context) {
  for (Finding& finding : attempt.findings) context.findings->add(std::move(finding));
  return std::move(*attempt.table);
}

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
    fit.well += le16(start, 510) == 0xAA55 ||
                std::any_of(found.begin(), found.end(), [](const Recognition& one) {
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

}  // namespace

std::string to_string(VolumeTable::Scheme scheme) {
  switch (scheme) {
    case VolumeTable::Scheme::mbr:
      return "mbr";
    case VolumeTable::Scheme::gpt:
      return "gpt";
    case VolumeTable::Scheme::none:
      break;
  }
  return "none";
}

VolumeTable read_volume_table(const SourcePtr& disk, std::optional<std::uint32_t> sector_size,
                              const Registry& formats, const Context& context) {
  const std::vector<std::uint32_t> sizes = sizes_to_try(*given(disk), sector_size);
  Attempt mbr;
  TableFit mbr_fit;
  if (!has_protective_entry(disk)) {
    for (const std::uint32_t size : sizes) {
      Attempt next = attempt(read_mbr, disk, size, context);
      if (!next.table) continue;
      const TableFit fit = fit_of(*next.table, disk, formats);
      if (!mbr.table || fit.well > mbr_fit.well) {
        mbr = std::move(next);
        mbr_fit = fit;
      }
    }
  }
  Attempt gpt;
  for (const std::uint32_t size : sizes)
    if (!gpt.table) gpt = attempt(read_gpt, disk, size, context);

  VolumeTable table;
  // A GPT counts by the protective entry of sector 0. Where that has entries of its own instead, it
  // counts only when it leads to more than they do, and cuts no more of what lies there.
  const TableFit gpt_fit = gpt.table && mbr.table ? fit_of(*gpt.table, disk, formats) : TableFit();
  const bool mbr_fits = mbr_fit.well >= gpt_fit.well || gpt_fit.cut > mbr_fit.cut;
  if (gpt.table && mbr.table && !mbr.table->rows.empty() && mbr_fits) {
    context.report(FindingCode::gpt_stale, Severity::note, {},
                   "an older GPT stands beside an MBR whose volumes are there", "the MBR is used");
    table = accept(std::move(mbr), context);
  } else if (gpt.table) {
    table = accept(std::move(gpt), context);
  } else if (mbr.table) {
    table = accept(std::move(mbr), context);
  } else {
    table.sector_size = sizes.front();
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
