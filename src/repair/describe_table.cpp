#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/utf16.h"
#include "lantern/text.h"
#include "repair/describe.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "repair/fields.h"
#include "repair/partition_codes.h"
#include "volume/gpt_layout.h"
#include "volume/partition_types.h"

namespace lantern::repair {
namespace {

using As = FieldReader::As;

constexpr std::size_t kGptEntryBytes = 128;
constexpr std::size_t kMaxShownEntries = 16;

const VolumeLayer* volume_at(const DiskLayer& disk, std::uint64_t byte) {
  const auto found = std::find_if(disk.volumes.begin(), disk.volumes.end(),
                                  [&](const VolumeLayer& v) { return v.row.range.offset == byte; });
  return found == disk.volumes.end() ? nullptr : &*found;
}

bool needs_boot_sector(std::uint8_t type) {
  constexpr std::array<std::uint8_t, 7> kTypes = {0x01, 0x04, 0x06, 0x07, 0x0B, 0x0C, 0x0E};
  return std::find(kTypes.begin(), kTypes.end(), type) != kTypes.end();
}

// Entries whose volume a machine can start from.
std::vector<std::size_t> startable_entries(ByteView sector, const DiskLayer& disk) {
  std::vector<std::size_t> found;
  for (std::size_t i = 0; i < 4; ++i) {
    const MbrEntry entry = mbr_entry(sector, i);
    if (!entry.used() || entry.extended()) continue;
    const std::uint64_t at = saturating_mul(entry.start, disk.table.sector_size);
    const VolumeLayer* const there = volume_at(disk, at);
    if (boot_evidence(*disk.container.flat, at,
                      there != nullptr ? there->file_system().get() : nullptr)
            .strong())
      found.push_back(i);
  }
  return found;
}

}  // namespace

void describe_mbr(Structure& structure, const DiskLayer& disk) {
  FieldReader read(structure);
  const ByteView bytes = read.bytes();
  const std::uint64_t sectors = disk.container.flat->size() / disk.table.sector_size;
  const bool gpt = disk.table.scheme == "gpt";
  read.raw("boot_code", 0, 440, Weight::start,
           "the firmware runs this; it finds the active entry and starts its volume");
  const auto active = [&](std::size_t i) { return mbr_entry(bytes, i).flag == 0x80; };
  std::size_t count = 0;
  for (std::size_t i = 0; i < 4; ++i) count += active(i) ? std::size_t{1} : 0;
  // Without an active entry it is a disk of data, or one that UEFI firmware starts.
  if (all_zero(bytes.first(440)) && !gpt && count > 0)
    read.expect("boot code: without it there is nothing to run");
  read.number("disk_id", 440, 4, Weight::identity, "tells disks apart; systems find theirs by it",
              As::hexadecimal);
  read.number("reserved", 444, 2, Weight::detail, "zero, or 5A5A on a disk that is write-protected",
              As::hexadecimal);
  const std::vector<std::size_t> startable = startable_entries(bytes, disk);
  for (std::size_t i = 0; i < 4; ++i) {
    const MbrEntry entry = mbr_entry(bytes, i);
    const std::size_t at = kMbrEntriesAt + i * kMbrEntryBytes;
    const std::uint64_t start_bytes = saturating_mul(entry.start, disk.table.sector_size);
    const VolumeLayer* const there = volume_at(disk, start_bytes);
    read.prefix = fmt::format("entry{}.", i + 1);
    read.number("active", at, 1, Weight::start,
                "the boot code starts the volume of the active entry");
    read.say(entry.flag == 0x80 ? "yes"
             : entry.flag == 0  ? "no"
                                : fmt::format("0x{:02x}", entry.flag));
    if ((entry.flag & 0x7F) != 0)
      read.expect("0x80 or 0x00: no other value is valid");
    else if (!gpt && count == 0 && startable.size() == 1 && startable[0] == i)
      read.expect("yes: no entry is active, and only its volume can be started");
    else if (count > 1 && active(i) && startable.size() == 1 && startable[0] != i)
      read.expect(
          fmt::format("no: {} entries are active, and the volume of entry {} alone can be started",
                      count, startable[0] + 1));
    read.raw("start_chs", at + 1, 3, Weight::detail, "the start as old firmware counts it");
    read.number("type", at + 4, 1, Weight::data,
                "what is in the volume; systems look no further when it is wrong", As::hexadecimal);
    if (entry.used()) {
      read.say(fmt::format("0x{:02x}, {}", entry.type, mbr_type(entry.type).words));
      const FileSystem* const files = there != nullptr ? there->file_system().get() : nullptr;
      if (files != nullptr) {
        const FileSystemFacts& holds = files->facts();
        if (!mbr_type_may_be(entry.type, holds.format, holds.type))
          read.expect(fmt::format(
              "0x{:02x}: its volume is {}",
              mbr_type_for(holds.format, holds.type, there->row.range.length, true), holds.type));
      }
    }
    read.raw("end_chs", at + 5, 3, Weight::detail, "the end as old firmware counts it");
    read.number("start", at + 8, 4, Weight::start, "the sector the volume begins at");
    if (entry.used() && !gpt && entry.start == 0) read.expect("past sector 0, which is this one");
    if (needs_boot_sector(entry.type) && there != nullptr && !there->file_system() &&
        !there->owner())
      read.expect(fmt::format("where a volume begins: nothing of {} does there",
                              mbr_type(entry.type).words));
    if (entry.used() && entry.start >= sectors)
      read.expect(fmt::format("less than {}, the sectors of the disk", sectors));
    read.number("sectors", at + 12, 4, Weight::data, "how long the volume is");
    if (entry.used() && entry.type != 0xEE && entry.start < sectors &&
        entry.sectors > sectors - entry.start)
      read.expect(fmt::format("at most {}: the disk ends there", sectors - entry.start));
  }
  read.prefix.clear();
  read.number("signature", 510, 2, Weight::start, "the firmware starts only what ends in 55 AA",
              As::hexadecimal);
  if (!has_boot_mark(bytes)) read.expect("0xaa55: nothing is started without it");
}

void describe_gpt_header(Structure& structure, const DiskLayer& disk, bool copy) {
  FieldReader read(structure);
  const ByteView bytes = read.bytes();
  const std::uint32_t step = disk.table.sector_size;
  const std::uint64_t last = disk.container.flat->size() / step - 1;
  if (read.text("signature", 0, gpt::kSignature.size(), Weight::start,
                "says that this is a table") != gpt::kSignature)
    read.expect("\"EFI PART\"");
  read.number("revision", gpt::kRevisionAt, 4, Weight::detail, "1.0 is 0x00010000",
              As::hexadecimal);
  const std::uint64_t length = read.number("header_bytes", gpt::kHeaderBytesAt, 4, Weight::detail,
                                           "what the checksum covers");
  if (length < gpt::kMinHeaderBytes || length > step) read.expect(fmt::format("92 to {}", step));
  const std::uint64_t sum =
      read.number("header_crc32", gpt::kSumAt, 4, Weight::derived,
                  "of this header; firmware takes the copy when it is wrong", As::hexadecimal);
  if (const auto right = gpt::header_sum(bytes); right && *right != sum)
    read.expect(fmt::format("0x{:08x}: that is the checksum of these bytes", *right));
  const std::uint64_t own =
      read.number("own_sector", gpt::kOwnAt, 8, Weight::start, "where this header is");
  const std::uint64_t here = structure.offset / step;
  if (own != here) read.expect(fmt::format("{}: it is there", here));
  const std::uint64_t other =
      read.number("other_sector", gpt::kOtherAt, 8, Weight::data, "where the other copy is");
  const std::uint64_t wanted = copy ? 1 : last;
  if (other != wanted)
    read.expect(fmt::format("{}: the {} sector of the disk", wanted, copy ? "second" : "last"));
  read.number("first_usable", gpt::kFirstUsableAt, 8, Weight::detail,
              "volumes begin here at the earliest");
  if (read.number("last_usable", gpt::kLastUsableAt, 8, Weight::detail,
                  "volumes end here at the latest") > last)
    read.expect(fmt::format("less than {}: the disk ends there", last));
  read.guid("disk_id", gpt::kDiskIdAt, Weight::identity, "tells disks apart");
  read.number("entries_sector", gpt::kEntriesAt, 8, Weight::start, "where the entries begin");
  read.number("entry_count", gpt::kEntryCountAt, 4, Weight::data,
              "how many entries there is room for");
  read.number("entry_bytes", gpt::kEntryBytesAt, 4, Weight::data, "of one entry");
  const std::uint64_t entries_sum = read.number("entries_crc32", gpt::kEntriesSumAt, 4,
                                                Weight::derived, "of all entries", As::hexadecimal);
  const std::uint64_t size = gpt::entries_bytes(bytes);
  if (size <= (1u << 20)) {
    Bytes entries(static_cast<std::size_t>(size));
    disk.container.flat->read(saturating_mul(le64(bytes, gpt::kEntriesAt), step), entries);
    const std::uint32_t right = gpt::crc(entries);
    if (right != entries_sum)
      read.expect(fmt::format("0x{:08x}: that is the checksum of the entries", right));
  }
}

void describe_gpt_entries(Structure& structure, const DiskLayer& disk) {
  FieldReader read(structure);
  const std::uint64_t sectors = disk.container.flat->size() / disk.table.sector_size;
  std::size_t shown = 0;
  for (std::size_t i = 0; (i + 1) * kGptEntryBytes <= read.bytes().size(); ++i) {
    const std::size_t at = i * kGptEntryBytes;
    if (all_zero(read.bytes().subspan(at, 16))) continue;
    if (++shown > kMaxShownEntries) break;
    read.prefix = fmt::format("entry{}.", i + 1);
    const std::string type = read.guid("type", at, Weight::data, "what is in the volume");
    if (const auto words = gpt_type(type).words; !words.empty())
      read.say(fmt::format("{}, {}", type, words));
    read.guid("id", at + gpt::entry::kIdAt, Weight::identity, "tells volumes apart");
    const std::uint64_t first =
        read.number("first", at + gpt::entry::kFirstAt, 8, Weight::start, "its first sector");
    if (first >= sectors)
      read.expect(fmt::format("less than {}, the sectors of the disk", sectors));
    const std::uint64_t last =
        read.number("last", at + gpt::entry::kLastAt, 8, Weight::data, "its last sector");
    if (last >= sectors || last < first)
      read.expect(fmt::format("{} to {}: the volume must be on the disk", first, sectors - 1));
    read.number("attributes", at + gpt::entry::kAttributesAt, 8, Weight::start,
                "bit 2: old firmware starts it", FieldReader::As::hexadecimal);
    read.raw("name", at + gpt::entry::kNameAt, gpt::entry::kNameBytes, Weight::identity,
             "what it is called");
    read.say("\"" +
             for_terminal(utf16le_text(
                 read.bytes().subspan(at + gpt::entry::kNameAt, gpt::entry::kNameBytes))) +
             "\"");
  }
}

}  // namespace lantern::repair
