#include "repair/plan/hands_off.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/store.h"
#include "filesystem/ntfs/boot.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "repair/facets.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

bool is_member(const Recognition& owner) {
  return owner.kind == FormatKind::array || owner.kind == FormatKind::volume_manager ||
         owner.kind == FormatKind::encryption;
}

// Metadata in the last volume of a disk look like the disk's own when they do not say where their
// member begins.
bool is_of_a_volume(const DiskLayer& disk) {
  return std::any_of(disk.volumes.begin(), disk.volumes.end(), [&](const VolumeLayer& volume) {
    return volume.row.range.offset != 0 && volume.owner() &&
           volume.owner()->format == disk.owner->format &&
           volume.row.range.offset + volume.owner()->place == disk.owner->place;
  });
}

std::string name_of(const Recognition& owner) {
  return owner.title + (owner.detail.empty() ? "" : " (" + owner.detail + ")");
}

// "fat.boot-sector" belongs to "fat"; tables and their parts to no volume.
std::string_view family(std::string_view code) {
  return code.substr(0, code.find('.'));
}

struct Protected {
  Range range;  // bytes of the disk
  std::string format;
  std::string what;
};

std::vector<Protected> protected_ranges(const Target& target, const VolumeSearch& found) {
  std::vector<Protected> list;
  for (const VolumeLayer& volume : target.disk().volumes) {
    if (!volume.owner() || !volume.owner()->verified) continue;
    Range range = volume.row.range;
    // A file system that ends before its volume does leaves the rest to nobody.
    if (volume.owner()->range.length != 0)
      range.length = std::min(range.length, volume.owner()->range.length);
    list.push_back({range, volume.owner()->format, name_of(*volume.owner())});
  }
  for (const FoundVolume& volume : found.volumes)
    if (repair_facet(volume.format) == nullptr && volume.verified)
      list.push_back({volume.range, volume.file_system, volume.evidence});
  return list;
}

// The first copy: signature, place and checksum.
bool gpt_header_is_right(const Bytes& header) {
  return has_text(header, 0, gpt::kSignature) && le64(header, gpt::kOwnAt) == 1 &&
         gpt::header_sum(header) == le32(header, gpt::kSumAt);
}

}  // namespace

std::string why_disk_is_left(const DiskLayer& disk) {
  // A table that is lost is recognised by what is left of it.
  const auto other_table =
      std::find_if(disk.recognised.begin(), disk.recognised.end(), [](const Recognition& one) {
        return one.kind == FormatKind::partition_table && one.verified &&
               !is_repaired_scheme(one.format);
      });
  if (!is_repaired_scheme(disk.table.scheme) ||
      (!disk.table.is_there() && other_table != disk.recognised.end()))
    return fmt::format("the disk has a {}, which is not repaired here: nothing is written to it",
                       other_table != disk.recognised.end() ? other_table->title
                                                            : "partition table of another kind");
  if (!disk.owner || is_repaired(*disk.owner)) return {};
  const Recognition& owner = *disk.owner;
  if (owner.kind == FormatKind::container || owner.kind == FormatKind::partition_table) return {};
  if (is_of_a_volume(disk)) return {};
  const bool table = disk.table.is_there();
  // By a copy alone, or by a mark alone, it may be remains; where a table leads somewhere, it is.
  if (!is_member(owner) && table) return {};
  if (is_member(owner) && table && (!owner.verified || owner.from_copy)) return {};
  if (owner.kind == FormatKind::encryption)
    return fmt::format("the disk is encrypted by {}: nothing is written to it", name_of(owner));
  if (is_member(owner))
    return fmt::format("the disk is a {}: nothing is written to it but through its {}",
                       name_of(owner), owner.kind == FormatKind::array ? "array" : "group");
  return fmt::format("the disk holds {}, which is not {} here: nothing is written to it",
                     name_of(owner), owner.is_read ? "repaired" : "read");
}

std::string why_not_written(const Target& target, const VolumeSearch& found,
                            const RepairStep& step) {
  const std::string disk = target.disk().address.print();
  const std::string_view own = family(step.code);
  for (const Protected& part : protected_ranges(target, found)) {
    if (own == part.format) continue;
    for (const PlannedWrite& write : step.writes)
      if (write.address == disk &&
          !intersect(part.range, {write.offset_bytes, write.after.size()}).empty())
        return fmt::format("it would write to byte {}, which belongs to {}", write.offset_bytes,
                           part.what);
  }
  return {};
}

MissingEnd missing_end(const DiskLayer& disk) {
  const std::uint64_t size = disk.container.flat->size();
  const std::uint64_t step = disk.table.sector_size;
  MissingEnd missing;
  const auto claim = [&](std::uint64_t end, const std::string& evidence) {
    if (end > size && end - size > missing.bytes) missing = {end - size, evidence};
  };
  const Bytes header = read_bytes(*disk.container.flat, step, 512);
  if (disk.table.scheme == "gpt" && gpt_header_is_right(header))
    if (const auto end = checked_mul(le64(header, gpt::kOtherAt) + 1, step))
      claim(*end, "the place of its second copy in the GPT");
  for (const VolumeLayer& volume : disk.volumes) {
    if (!volume.owner() || volume.owner()->from_copy || !volume.owner()->verified) continue;
    const Recognition& owner = *volume.owner();
    // The copy of its boot sector ends a volume of NTFS: where it is there, nothing is missing.
    if (owner.format == "ntfs" && ntfs::find_geometries(*volume.bytes).size() > 1) continue;
    const std::uint64_t end = volume.row.range.offset + owner.range.length;
    // Its entry and its own figures, where there is an entry, say the same.
    const bool entry_agrees = !disk.table.is_there() || volume.row.range.end() > size;
    if (entry_agrees)
      claim(end, fmt::format("the size that the {} of volume {} records", owner.title,
                             volume.row.number));
  }
  return missing;
}

}  // namespace lantern::repair
