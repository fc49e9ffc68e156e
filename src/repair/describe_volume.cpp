#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "base/crc32c.h"
#include "filesystem/ntfs/names.h"
#include "filesystem/ntfs/record.h"
#include "lantern/text.h"
#include "repair/describe.h"
#include "repair/fields.h"

namespace lantern::repair {
namespace {

using As = FieldReader::As;

constexpr std::size_t kMaxAttributes = 64;

bool is_power_of_two(std::uint64_t value) {
  return value != 0 && (value & (value - 1)) == 0;
}

void describe_jump(FieldReader& read) {
  const std::uint64_t jump = read.number("jump", 0, 3, Weight::start,
                                         "leads over the fields to the boot code", As::hexadecimal);
  if ((jump & 0xFF) != 0xEB && (jump & 0xFF) != 0xE9) read.expect("eb .. 90 or e9 .. ..: a jump");
}

void describe_end(FieldReader& read) {
  read.number("signature", 510, 2, Weight::start, "the boot code that leads here looks for 55 AA",
              As::hexadecimal);
  if (!has_boot_mark(read.bytes())) read.expect("0xaa55");
}

void describe_sector_bytes(FieldReader& read) {
  const std::uint64_t value =
      read.number("sector_bytes", 11, 2, Weight::data, "of a sector; all else is counted in them");
  if (!is_power_of_two(value) || value < 256 || value > 4096) read.expect("512, or up to 4096");
}

void describe_hidden(FieldReader& read, std::size_t at, std::size_t width, const BootPlace& place) {
  const std::uint64_t value =
      read.number("hidden_sectors", at, width, Weight::start,
                  "where the volume begins on the disk; its boot code reads from there");
  if (place.has_table && value != place.start_sectors)
    read.expect(fmt::format("{} where a machine is to start from it: the volume begins there",
                            place.start_sectors));
}

void describe_fat(FieldReader& read, const BootPlace& place) {
  const bool wide = place.kind == BootKind::fat32;
  const ByteView bytes = read.bytes();
  describe_jump(read);
  read.text("oem_name", 3, 8, Weight::detail, "what formatted it");
  describe_sector_bytes(read);
  if (!is_power_of_two(read.number("cluster_sectors", 13, 1, Weight::data, "of a cluster")))
    read.expect("a power of two");
  if (read.number("reserved_sectors", 14, 2, Weight::data, "before the first FAT") == 0)
    read.expect("1 or more: this sector is one");
  const std::uint64_t tables =
      read.number("fat_count", 16, 1, Weight::data, "how many FATs there are");
  if (tables == 0 || tables > 4) read.expect("2, seldom 1");
  read.number("root_entries", 17, 2, Weight::data, "room in the root folder; 0 on FAT32");
  const std::uint64_t small =
      read.number("sectors_16", 19, 2, Weight::data, "of the volume, 0 when they are more");
  const std::uint64_t media =
      read.number("media", 21, 1, Weight::detail, "F8: a fixed disk", As::hexadecimal);
  if (media != 0xF0 && media < 0xF8) read.expect("0xf0, or 0xf8 and more");
  read.number("fat_sectors_16", 22, 2, Weight::data, "of one FAT; 0 on FAT32");
  read.number("track_sectors", 24, 2, Weight::detail, "as old firmware counts");
  read.number("heads", 26, 2, Weight::detail, "as old firmware counts");
  describe_hidden(read, 28, 4, place);
  const std::uint64_t large = read.number("sectors", 32, 4, Weight::data, "of the volume");
  const std::uint64_t all = small != 0 ? small : large;
  if (all == 0 || (place.volume_sectors != 0 && all > place.volume_sectors))
    read.expect(fmt::format("1 to {}: the volume ends there", place.volume_sectors));
  std::size_t at = 36;
  if (wide) {
    if (read.number("fat_sectors", 36, 4, Weight::data, "of one FAT") == 0)
      read.expect("1 or more");
    read.number("fat_flags", 40, 2, Weight::detail, "which FAT is in use", As::hexadecimal);
    read.number("version", 42, 2, Weight::detail, "0", As::hexadecimal);
    if (read.number("root_cluster", 44, 4, Weight::data, "where the root folder begins") < 2)
      read.expect("2 or more");
    read.number("fsinfo_sector", 48, 2, Weight::detail, "where free clusters are counted");
    read.number("backup_sector", 50, 2, Weight::detail, "where the copy of this sector is");
    at = 64;
  }
  read.number("drive", at, 1, Weight::start, "80: the first disk, as the firmware counts",
              As::hexadecimal);
  read.number("extended_signature", at + 2, 1, Weight::detail, "29: serial and label follow",
              As::hexadecimal);
  read.number("serial", at + 3, 4, Weight::identity, "tells volumes apart", As::hexadecimal);
  read.text("label", at + 7, 11, Weight::identity, "what it is called");
  read.text("type_name", at + 18, 8, Weight::detail, "in words; no system goes by it");
  const std::size_t code = at + 26;
  read.raw("boot_code", code, 510 - code, Weight::start,
           "started by the code of the disk's first sector");
  if (all_zero(slice(bytes, code, 510 - code)))
    read.expect("boot code, when a machine is to start from this volume");
  describe_end(read);
}

void describe_ntfs(FieldReader& read, const BootPlace& place) {
  describe_jump(read);
  if (read.text("oem_name", 3, 8, Weight::start, "says what the volume holds") != "NTFS")
    read.expect("\"NTFS    \"");
  describe_sector_bytes(read);
  const std::uint64_t per_cluster = read.number("cluster_sectors", 13, 1, Weight::data,
                                                "of a cluster; above 128 minus a power of two");
  if (per_cluster == 0 || (per_cluster <= 0x80 && !is_power_of_two(per_cluster)))
    read.expect("a power of two");
  read.number("media", 21, 1, Weight::detail, "F8: a fixed disk", As::hexadecimal);
  read.number("track_sectors", 24, 2, Weight::detail, "as old firmware counts");
  read.number("heads", 26, 2, Weight::detail, "as old firmware counts");
  describe_hidden(read, 28, 4, place);
  read.number("drive", 36, 1, Weight::start, "80: the first disk, as the firmware counts",
              As::hexadecimal);
  const std::uint64_t sectors =
      read.number("sectors", 40, 8, Weight::data, "of the volume, without the copy of this one");
  if (sectors == 0 || (place.volume_sectors != 0 && sectors > place.volume_sectors))
    read.expect(fmt::format("1 to {}: the volume ends there", place.volume_sectors));
  const std::uint64_t step = std::max<std::uint64_t>(per_cluster <= 0x80 ? per_cluster : 1, 1);
  for (const auto& [name, at, about] :
       {std::tuple("mft_cluster", 48, "where the MFT begins"),
        std::tuple("mftmirr_cluster", 56, "where the copy of its first records is")}) {
    const std::uint64_t cluster =
        read.number(name, static_cast<std::size_t>(at), 8, Weight::data, about);
    if (cluster == 0 || (sectors != 0 && cluster >= sectors / step))
      read.expect(fmt::format("1 to {}, the clusters of the volume",
                              sectors / step - (sectors / step > 0 ? 1 : 0)));
  }
  read.number("record_clusters", 64, 1, Weight::data,
              "of a record; above 128 minus a power of two, of bytes");
  read.number("index_clusters", 68, 1, Weight::data, "of an index buffer, the same");
  read.number("serial", 72, 8, Weight::identity, "tells volumes apart", As::hexadecimal);
  read.number("checksum", 80, 4, Weight::detail, "0", As::hexadecimal);
  read.raw("boot_code", 84, 426, Weight::start, "started by the code of the disk's first sector");
  describe_end(read);
}

void describe_exfat(FieldReader& read, const BootPlace& place) {
  describe_jump(read);
  if (read.text("oem_name", 3, 8, Weight::start, "says what the volume holds") != "EXFAT")
    read.expect("\"EXFAT   \"");
  describe_hidden(read, 64, 8, place);
  const std::uint64_t sectors = read.number("sectors", 72, 8, Weight::data, "of the volume");
  if (sectors == 0 || (place.volume_sectors != 0 && sectors > place.volume_sectors))
    read.expect(fmt::format("1 to {}: the volume ends there", place.volume_sectors));
  read.number("fat_sector", 80, 4, Weight::data, "where the first FAT begins");
  read.number("fat_sectors", 84, 4, Weight::data, "of one FAT");
  read.number("heap_sector", 88, 4, Weight::data, "where cluster 2 is");
  read.number("clusters", 92, 4, Weight::data, "of the volume");
  if (read.number("root_cluster", 96, 4, Weight::data, "where the root folder begins") < 2)
    read.expect("2 or more");
  read.number("serial", 100, 4, Weight::identity, "tells volumes apart", As::hexadecimal);
  read.number("revision", 104, 2, Weight::detail, "1.0 is 0x0100", As::hexadecimal);
  read.number("flags", 106, 2, Weight::detail, "1 the second FAT is in use, 2 not closed cleanly",
              As::hexadecimal);
  const std::uint64_t shift =
      read.number("sector_power", 108, 1, Weight::data, "bytes of a sector, a power of two");
  if (shift < 9 || shift > 12) read.expect("9 to 12");
  read.number("cluster_power", 109, 1, Weight::data, "sectors of a cluster, a power of two");
  const std::uint64_t tables =
      read.number("fat_count", 110, 1, Weight::data, "1, or 2 with transactions");
  if (tables == 0 || tables > 2) read.expect("1 or 2");
  read.number("drive", 111, 1, Weight::detail, "80: the first disk, as the firmware counts",
              As::hexadecimal);
  read.number("percent", 112, 1, Weight::detail, "of the clusters in use; FF: not known");
  read.raw("boot_code", 120, 390, Weight::start, "started by the code of the disk's first sector");
  describe_end(read);
}

}  // namespace

BootKind boot_kind(ByteView sector) {
  if (has_text(sector, 3, "NTFS    ")) return BootKind::ntfs;
  if (has_text(sector, 3, "EXFAT   ")) return BootKind::exfat;
  const std::uint16_t bytes = le16(sector, 11);
  if (!is_power_of_two(bytes) || bytes < 512 || bytes > 4096 || !is_power_of_two(u8(sector, 13)) ||
      le16(sector, 14) == 0 || u8(sector, 16) == 0 || u8(sector, 16) > 4)
    return BootKind::none;
  return le16(sector, 22) == 0 ? BootKind::fat32 : BootKind::fat;
}

void describe_boot(Structure& structure, const BootPlace& place) {
  FieldReader read(structure);
  switch (place.kind) {
    case BootKind::none:
      read.raw("boot_code", 0, 510, Weight::start,
               "started by the code of the disk's first sector");
      describe_end(read);
      return;
    case BootKind::fat:
    case BootKind::fat32:
      describe_fat(read, place);
      break;
    case BootKind::ntfs:
      describe_ntfs(read, place);
      break;
    case BootKind::exfat:
      describe_exfat(read, place);
      break;
  }
  if (place.copy.empty()) return;
  // What the copy says is worth more than what can be.
  Structure copy;
  copy.bytes.assign(place.copy.begin(), place.copy.end());
  BootPlace of_copy = place;
  of_copy.copy = {};
  describe_boot(copy, of_copy);
  for (Field& field : structure.fields) {
    const ByteView here = slice(structure.bytes, field.place.offset, field.place.length);
    const ByteView there = slice(copy.bytes, field.place.offset, field.place.length);
    const Field* const other = copy.find(field.name);
    if (std::equal(here.begin(), here.end(), there.begin()) || other == nullptr ||
        !other->expected.empty())
      continue;
    // exFAT: these two change without the copy.
    if (field.name == "flags" || field.name == "percent") continue;
    field.expected = other->value + ": its copy has that";
  }
}

void describe_superblock(Structure& structure, std::uint64_t volume_bytes) {
  FieldReader read(structure);
  const ByteView bytes = read.bytes();
  read.number("inodes", 0x00, 4, Weight::data, "how many files there is room for");
  const std::uint64_t low =
      read.number("blocks", 0x04, 4, Weight::data, "of the volume, the low part");
  read.number("free_blocks", 0x0C, 4, Weight::detail, "the low part");
  read.number("free_inodes", 0x10, 4, Weight::detail, "not in use");
  read.number("first_block", 0x14, 4, Weight::data, "1 with blocks of 1 KiB, else 0");
  const std::uint64_t power = read.number("block_power", 0x18, 4, Weight::data,
                                          "bytes of a block are 1024 times two to this");
  if (power > 6) read.expect("0 to 6");
  read.number("group_blocks", 0x20, 4, Weight::data, "of a group");
  read.number("group_inodes", 0x28, 4, Weight::data, "of a group");
  read.number("mounted_at", 0x2C, 4, Weight::detail, "last, in seconds since 1970");
  read.number("written_at", 0x30, 4, Weight::detail, "last, in seconds since 1970");
  read.number("mounts", 0x34, 2, Weight::detail, "since it was last checked");
  const std::uint64_t mark = read.number("signature", 0x38, 2, Weight::start,
                                         "says what the volume holds", As::hexadecimal);
  if (mark != 0xEF53) read.expect("0xef53");
  read.number("state", 0x3A, 2, Weight::detail, "1 closed cleanly, 2 with errors");
  read.number("revision", 0x4C, 4, Weight::detail, "1, or 0 for the oldest");
  read.number("inode_bytes", 0x58, 2, Weight::data, "of an inode");
  read.number("own_group", 0x5A, 2, Weight::detail, "which copy this is");
  read.number("features", 0x5C, 4, Weight::detail, "that may be ignored", As::hexadecimal);
  const std::uint64_t needed = read.number("features_needed", 0x60, 4, Weight::data,
                                           "without which it cannot be read", As::hexadecimal);
  read.number("features_written", 0x64, 4, Weight::data, "without which it cannot be written",
              As::hexadecimal);
  read.guid("id", 0x68, Weight::identity, "tells volumes apart");
  std::string id;
  for (std::size_t i = 0; i < 16; ++i)
    id += fmt::format("{}{:02x}", i == 4 || i == 6 || i == 8 || i == 10 ? "-" : "",
                      u8(bytes, 0x68 + i));
  read.say(id);
  read.text("label", 0x78, 16, Weight::identity, "what it is called");
  read.text("mounted_on", 0x88, 64, Weight::detail, "last");
  read.number("journal_inode", 0xE0, 4, Weight::data, "where the journal is");
  read.number("descriptor_bytes", 0xFE, 2, Weight::data,
              "of a group descriptor, when they are 64 bits");
  const bool wide = (needed & 0x80) != 0;
  const std::uint64_t high =
      read.number("blocks_high", 0x150, 4, Weight::data, "of the volume, the high part");
  const std::uint64_t blocks = low | (wide ? high << 32 : 0);
  if (power <= 6 && volume_bytes != 0 && (blocks == 0 || blocks > volume_bytes >> (10 + power)))
    read.expect(fmt::format("with the low part, 1 to {} blocks: the volume ends there",
                            volume_bytes >> (10 + power)));
  const std::uint64_t sum =
      read.number("checksum", 0x3FC, 4, Weight::derived,
                  "of this superblock, when the feature is on", As::hexadecimal);
  if ((le32(bytes, 0x64) & 0x400) != 0) {
    const std::uint32_t right = crc32c_chain(~0u, bytes.first(0x3FC));
    if (right != sum)
      read.expect(fmt::format("0x{:08x}: that is the checksum of these bytes", right));
  }
}

void describe_file_record(Structure& structure) {
  FieldReader read(structure);
  if (read.text("signature", 0, 4, Weight::data, "says that this is a record") != "FILE")
    read.expect("\"FILE\"");
  read.number("update_sequence_at", 4, 2, Weight::detail, "where the update sequence (fixup) is");
  read.number("update_sequence_count", 6, 2, Weight::detail, "a number for each sector, and one");
  read.number("log_number", 8, 8, Weight::detail, "of the last change in the log");
  read.number("sequence", 0x10, 2, Weight::detail, "how often it was used");
  read.number("names", 0x12, 2, Weight::detail, "of the file");
  read.number("first_attribute", 0x14, 2, Weight::data, "where the attributes begin");
  const std::uint64_t flags =
      read.number("flags", 0x16, 2, Weight::data, "1 in use, 2 a folder", As::hexadecimal);
  read.say(fmt::format("{}{}", (flags & 1) != 0 ? "in use" : "not in use",
                       (flags & 2) != 0 ? ", a folder" : ""));
  if (read.number("used_bytes", 0x18, 4, Weight::detail, "of the record") > structure.bytes.size())
    read.expect(fmt::format("at most {}", structure.bytes.size()));
  read.number("record_bytes", 0x1C, 4, Weight::data, "of the record");
  read.number("base", 0x20, 8, Weight::data, "the record it goes on with, 0: it is one itself",
              As::hexadecimal);
  const auto record = ntfs::parse_record(Bytes(structure.bytes.begin(), structure.bytes.end()));
  if (!record) return;
  if (record->torn) {
    structure.fields[1].expected =
        "the update sequence number at the end of each sector: a part of it is of another write";
  }
  std::size_t number = 0;
  for (const ntfs::Attribute& attribute : record->attributes) {
    if (++number > kMaxAttributes) break;
    const Range place = attribute.resident ? attribute.value : attribute.runs;
    if (place.empty() || place.end() > structure.bytes.size()) continue;
    read.raw(fmt::format("attribute{}", number), static_cast<std::size_t>(place.offset),
             static_cast<std::size_t>(place.length), Weight::data,
             attribute.resident ? "its value, in the record" : "where its clusters are");
    std::string value = fmt::format("type 0x{:02x}", attribute.type);
    if (!attribute.name.empty()) value += " \"" + for_terminal(attribute.name) + "\"";
    if (attribute.type == ntfs::kFileName && attribute.resident)
      if (const auto name = ntfs::parse_file_name(record->value_of(attribute)))
        value += ", the name \"" + for_terminal(name->text) + "\"";
    read.say(value + fmt::format(", {} bytes", attribute.size_bytes));
  }
}

}  // namespace lantern::repair
