#include "repair/plan/checksums.h"

#include <algorithm>

#include "base/checked.h"
#include "base/crc32c.h"
#include "base/store.h"
#include "lantern/error.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxTableBytes = 1u << 20;

// Both headers have a checksum of the entries, and the other copy has the entries, too.
void of_gpt_entries(const Target& target, const Structure& structure, const Bytes& after,
                    RepairStep& step, const Context& context) {
  const DiskLayer& disk = target.disk();
  for (const char* name : {"gpt", "gpt:copy"}) {
    Structure header;
    try {
      header = read_structure(target, name, context);
    } catch (const Error&) {
      continue;
    }
    if (!has_text(header.bytes, 0, gpt::kSignature)) continue;
    const std::uint64_t at =
        saturating_mul(le64(header.bytes, gpt::kEntriesAt), disk.table.sector_size);
    const std::uint64_t length = gpt::entries_bytes(header.bytes);
    if (length > kMaxTableBytes) continue;
    Bytes entries = read_bytes(*disk.container.flat, at, static_cast<std::size_t>(length));
    if (entries.size() != length || length < after.size()) continue;
    const Bytes before = entries;
    store_bytes(entries, 0, after);
    if (at != structure.offset) add_changes(step, header.address, at, before, entries);
    Bytes changed = header.bytes;
    store_le32(changed, gpt::kEntriesSumAt, gpt::crc(entries));
    gpt::store_header_sum(changed);
    add_changes(step, header.address, header.offset, header.bytes, changed);
  }
}

// exFAT: the twelfth sector repeats the checksum of the eleven before it.
void of_exfat_region(const Trial& trial, const Structure& structure, const Bytes& after,
                     RepairStep& step) {
  const std::size_t size = std::size_t{1} << std::min<unsigned>(u8(after, 0x6C), 12);
  const SourcePtr layer = trial.layer(structure.address);
  Bytes region = read_bytes(*layer, structure.offset, 12 * size);
  if (region.size() < 12 * size) return;
  store_bytes(region, 0, after);
  const Bytes before(region.end() - static_cast<std::ptrdiff_t>(size), region.end());
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 11 * size; ++i)
    if (i != 0x6A && i != 0x6B && i != 0x70) sum = ((sum & 1) << 31 | sum >> 1) + u8(region, i);
  Bytes sector(size);
  for (std::size_t at = 0; at < size; at += 4) store_le32(sector, at, sum);
  add_changes(step, structure.address, structure.offset + 11 * size, before, sector);
}

// The last two bytes of each sector of a record are in its update sequence.
void refuse_update_sequence(const Structure& structure, const std::vector<Field>& changed) {
  for (std::uint64_t at = kBootMarkAt; at < structure.bytes.size(); at += kSector)
    for (const Field& field : changed)
      if (!intersect(field.place, {at, 2}).empty())
        throw Error(ErrorCode::usage, structure.address, structure.offset + at,
                    "this field runs over the update sequence of its record",
                    {"write its bytes: ", Do::write_bytes});
}

}  // namespace

void recalculate(const Trial& trial, const Target& target, const Structure& structure,
                 const std::vector<Field>& changed, Bytes& after, RepairStep& step,
                 const Context& context) {
  const bool asked_for = std::any_of(changed.begin(), changed.end(), [](const Field& field) {
    return field.name == "header_crc32" || field.name == "checksum";
  });
  if (structure.name == "gpt:entries")
    of_gpt_entries(target, structure, after, step, context);
  else if (asked_for)
    return;
  else if (structure.name == "gpt" || structure.name == "gpt:copy")
    gpt::store_header_sum(after);
  else if (structure.name.starts_with("superblock") && (le32(after, 0x64) & 0x400) != 0)
    store_le32(after, 0x3FC, crc32c_chain(~0u, ByteView(after).first(0x3FC)));
  else if (structure.name.starts_with("boot") && has_text(after, 3, "EXFAT   "))
    of_exfat_region(trial, structure, after, step);
  else if (structure.name.starts_with("mft"))
    refuse_update_sequence(structure, changed);
}

}  // namespace lantern::repair
