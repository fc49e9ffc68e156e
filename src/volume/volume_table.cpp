#include "lantern/volume_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
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

// Volumes that begin with something a file system or boot sector begins with.
std::size_t volumes_that_begin_well(const VolumeTable& table, const ByteSource& disk) {
  std::size_t count = 0;
  for (const VolumeRow& row : table.rows) {
    Bytes start(2048);
    if (disk.read(row.range.offset, start).length < start.size()) continue;
    const bool boot_sector = u8(start, 510) == 0x55 && u8(start, 511) == 0xAA;
    const bool ext = le16(start, 1024 + 56) == 0xEF53;
    if (boot_sector || ext || has_text(start, 0, "XFSB") || has_text(start, 0, "LUKS")) ++count;
  }
  return count;
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
                              const Context& context) {
  const std::vector<std::uint32_t> sizes = sizes_to_try(*disk, sector_size);
  Attempt mbr;
  std::size_t mbr_well = 0;
  if (!has_protective_entry(disk)) {
    for (const std::uint32_t size : sizes) {
      Attempt next = attempt(read_mbr, disk, size, context);
      if (!next.table) continue;
      const std::size_t well = volumes_that_begin_well(*next.table, *disk);
      if (!mbr.table || well > mbr_well) {
        mbr = std::move(next);
        mbr_well = well;
      }
    }
  }
  Attempt gpt;
  for (const std::uint32_t size : sizes)
    if (!gpt.table) gpt = attempt(read_gpt, disk, size, context);

  VolumeTable table;
  if (gpt.table && mbr_well > 0) {
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
