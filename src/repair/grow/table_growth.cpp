#include "repair/grow/table_growth.h"

#include <fmt/format.h>

#include <algorithm>

#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "repair/grow/gpt_table.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

class TableGrowth {
 public:
  TableGrowth(const DiskLayer& disk, const VolumeLayer& volume)
      : disk_(disk),
        row_(volume.row),
        sector_(disk.table.sector_size),
        sectors_(disk.bytes->size() / sector_),
        address_(disk.address.print()) {}

  RepairStep run() {
    step_.code = "grow.volume";
    for (const VolumePtr& other : disk_.volumes.all())
      if (other->row.number != row_.number && !other->row.spans &&
          !intersect(other->row.range, row_.range).empty())
        refuse(fmt::format("volumes {} and {} overlap", row_.number, other->row.number));
    if (disk_.table.scheme == "mbr")
      mbr();
    else if (disk_.table.scheme == "gpt")
      gpt();
    else
      throw Error(
          ErrorCode::unsupported, address_, std::nullopt,
          "a volume of this kind of table (" + disk_.table.scheme + ") is not made longer yet",
          "make the table anew with its own system's tools");
    if (end_ > 0)
      step_.what = fmt::format("volume {} becomes {} instead of {}", row_.number,
                               human_size(end_ * sector_ - row_.range.offset),
                               human_size(row_.range.length));
    return std::move(step_);
  }

 private:
  [[noreturn]] void refuse(const std::string& what) const {
    throw Error(ErrorCode::refused, address_, std::nullopt, what,
                {"repair it first: ", Action{Do::plan, {address_}}});
  }
  std::uint64_t start() const { return row_.range.offset / sector_; }
  std::uint64_t old_end() const { return row_.range.end() / sector_; }
  std::uint64_t aligned(std::uint64_t end) const {
    return end / (kGrownAlignment / sector_) * (kGrownAlignment / sector_);
  }
  // The sector the volume may end before, up to `limit`.
  std::uint64_t room_to(std::uint64_t limit) {
    for (const VolumePtr& other : disk_.volumes.all())
      if (other->row.range.offset >= row_.range.end())
        limit = std::min(limit, other->row.range.offset / sector_);
    return aligned(limit);
  }

  void mbr() {
    Bytes sector = sector_at(0);
    constexpr std::uint64_t kLast = std::uint64_t{kMaxMbrSectors} + 1;
    const std::uint64_t reach = std::min(sectors_, kLast);
    step_.evidence = reach == kLast
                         ? "an MBR reaches no further than 2 TiB; behind that only a GPT "
                           "does, which its own system's tools make of it"
                         : "nothing lies between its end and the next volume";
    std::uint64_t limit = reach;
    std::size_t own = 4;  // the entry that is the volume, or has it inside
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry entry = mbr_entry(sector, i);
      if (!entry.used()) continue;
      if (entry.start >= old_end()) limit = std::min(limit, entry.start);
      if (start() >= entry.start && start() < entry.range().end()) own = i;
    }
    if (own == 4) refuse("the table does not say where the volume begins");
    MbrEntry entry = mbr_entry(sector, own);
    const bool logical = entry.extended();
    if (!logical && entry.start != start())
      refuse("the table does not say where the volume begins");
    const std::uint64_t end = logical ? lengthen_logical(entry.start, limit) : room_to(limit);
    if (end <= old_end()) return;
    end_ = end;
    if (logical && end <= entry.range().end()) return;
    entry.sectors = end - entry.start;
    store_mbr_entry(sector, own, entry, 0);
    change_sectors(step_, disk_, 0, sector);
  }

  // In the chain of records of an extended partition: its own, and the link to that. The sector it
  // ends before then.
  std::uint64_t lengthen_logical(std::uint64_t extended, std::uint64_t limit) {
    constexpr int kMaxRecords = 256;
    std::uint64_t at = extended, before = 0;
    for (int i = 0; i < kMaxRecords; ++i) {
      Bytes record = sector_at(at);
      if (!has_boot_mark(record)) break;
      MbrEntry own = mbr_entry(record, 0);
      const MbrEntry link = mbr_entry(record, 1);
      if (at + own.start != start()) {
        if (!link.used()) break;
        before = at;
        at = extended + link.start;
        continue;
      }
      // A record lies before its volume.
      if (link.used() && extended + link.start >= old_end())
        limit = std::min(limit, extended + link.start);
      const std::uint64_t end = room_to(limit);
      if (end <= old_end()) return end;
      own.sectors = end - start();
      store_mbr_entry(record, 0, own, at);
      change_sectors(step_, disk_, at, record);
      if (before != 0) {
        Bytes other = sector_at(before);
        MbrEntry to_own = mbr_entry(other, 1);
        to_own.sectors = end - at;
        store_mbr_entry(other, 1, to_own, extended);
        change_sectors(step_, disk_, before, other);
      }
      return end;
    }
    refuse("the chain of logical volumes does not lead to it");
  }

  Bytes sector_at(std::uint64_t sector) const {
    Bytes bytes = read_bytes(*disk_.bytes, sector * sector_, static_cast<std::size_t>(sector_));
    if (bytes.size() < sector_) refuse("a record of the partition table cannot be read");
    return bytes;
  }

  void gpt() {
    GptTable table(disk_);
    const std::span<std::byte> entry = table.entry_of(row_);
    const std::uint64_t end = room_to(table.usable_end());
    step_.evidence = "nothing lies between its end and the next volume";
    if (!table.spare_is_at_end())
      step_.evidence += "; the spare copy of the table moves to the new end";
    if (end <= old_end() && table.spare_is_at_end()) return;
    if (end > old_end()) {
      store_le64(entry, gpt::entry::kLastAt, end - 1);
      end_ = end;
    } else {
      step_.what = "the spare copy of the partition table moves to the end of the disk";
    }
    table.write(step_);
  }

  const DiskLayer& disk_;
  const VolumeRow& row_;
  std::uint64_t sector_, sectors_;
  std::string address_;
  std::uint64_t end_ = 0;  // sector behind the last; 0: it stays
  RepairStep step_;
};

}  // namespace

RepairStep lengthen_volume(const DiskLayer& disk, const VolumeLayer& volume) {
  return TableGrowth(disk, volume).run();
}

}  // namespace lantern::repair
