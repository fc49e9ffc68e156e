#include "volume/formats.h"

#include "base/bytes.h"
#include "volume/apm.h"
#include "volume/bsd.h"
#include "volume/gpt.h"
#include "volume/gpt_layout.h"
#include "volume/mbr.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

constexpr std::size_t kEntriesAt = 446;
constexpr std::size_t kEntryBytes = 16;

// A record of volumes: entries that can be, one at least.
std::optional<Recognition> probe_mbr(const ByteSource& source, std::uint64_t at) {
  Bytes sector(512);
  if (source.read(at, sector).length < sector.size()) return std::nullopt;
  std::size_t used = 0;
  for (std::size_t e = kEntriesAt; e < kEntriesAt + 4 * kEntryBytes; e += kEntryBytes) {
    if ((u8(sector, e) & 0x7F) != 0) return std::nullopt;
    if (u8(sector, e + 4) == 0) continue;
    if (le32(sector, e + 8) == 0 || le32(sector, e + 12) == 0) return std::nullopt;
    ++used;
  }
  if (used == 0) return std::nullopt;
  Recognition found;
  found.title = "partition table (MBR)";
  found.range = {at, 512};
  return found;
}

std::optional<Recognition> probe_gpt(const ByteSource& source, std::uint64_t at) {
  Bytes sector(512);
  if (source.read(at, sector).length < sector.size()) return std::nullopt;
  const std::uint32_t length = le32(sector, 12);
  if (length < 92 || length > sector.size()) return std::nullopt;
  Recognition found;
  found.title = "partition table (GPT)";
  found.from_copy = le64(sector, 24) != 1;
  found.range = {at, 512};
  return found;
}

// The entry that keeps others off a GPT is no table of its own.
std::optional<VolumeTable> read_mbr_alone(const SourcePtr& disk, std::uint32_t sector_size,
                                          const Context& context) {
  if (has_protective_entry(disk)) return std::nullopt;
  return read_mbr(disk, sector_size, context);
}

}  // namespace

Format mbr_format() {
  Format format{"mbr", FormatKind::partition_table, {{510, "\x55\xAA"sv}}, {{0}}, probe_mbr, true};
  format.read_table = read_mbr_alone;
  return format;
}

Format gpt_format() {
  Format format{"gpt", FormatKind::partition_table, {{0, gpt::kSignature}}, {}, probe_gpt, true};
  format.read_table = read_gpt;
  return format;
}

Format apm_format() {
  Format format{
      "apm", FormatKind::partition_table, {{0, "ER"sv}, {0, "PM\0\0"sv}}, {{0}, {512}}, probe_apm,
      true};
  format.read_table = read_apm;
  return format;
}

Format bsd_format() {
  constexpr std::string_view kMark = "\x57\x45\x56\x82"sv, kBigMark = "\x82\x56\x45\x57"sv;
  Format format{"bsd",
                FormatKind::partition_table,
                {{0, kMark}, {64, kMark}, {0, kBigMark}, {64, kBigMark}},
                {{0}, {512}},
                probe_bsd,
                true};
  format.read_table = read_bsd;
  return format;
}

}  // namespace lantern
