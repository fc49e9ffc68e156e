#include "repair/grow/table_growth.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

// Volumes end at a multiple of this, where they are made longer.
constexpr std::uint64_t kAlignment = 4096;
constexpr std::uint64_t kMaxGptBytes = 1u << 20;

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
  void change(std::uint64_t sector, const Bytes& after) {
    const std::uint64_t at = sector * sector_;
    add_changes(step_, address_, at, read_bytes(*disk_.bytes, at, after.size()), after);
  }
  std::uint64_t start() const { return row_.range.offset / sector_; }
  std::uint64_t old_end() const { return row_.range.end() / sector_; }
  std::uint64_t aligned(std::uint64_t end) const {
    return end / (kAlignment / sector_) * (kAlignment / sector_);
  }
  // The sector the volume may end before, up to `limit`.
  std::uint64_t room_to(std::uint64_t limit) {
    for (const VolumePtr& other : disk_.volumes.all())
      if (other->row.range.offset >= row_.range.end())
        limit = std::min(limit, other->row.range.offset / sector_);
    return aligned(limit);
  }

  void mbr() {
    if (row_.number > 4)
      throw Error(ErrorCode::unsupported, address_, std::nullopt,
                  "a volume of an extended partition is not made longer yet",
                  "make the table anew with its own system's tools");
    Bytes sector = read_bytes(*disk_.bytes, 0, static_cast<std::size_t>(sector_));
    MbrEntry entry = mbr_entry(sector, static_cast<std::size_t>(row_.number - 1));
    if (entry.start != start()) refuse("the table does not say where the volume begins");
    constexpr std::uint64_t kLast = std::uint64_t{kMaxMbrSectors} + 1;
    std::uint64_t limit = std::min(sectors_, kLast);
    for (std::size_t i = 0; i < 4; ++i) {
      const MbrEntry other = mbr_entry(sector, i);
      if (other.used() && other.start >= old_end()) limit = std::min(limit, other.start);
    }
    const std::uint64_t end = room_to(limit);
    step_.evidence = limit == kLast ? "a table of this kind reaches no further than 2 TiB"
                                    : "nothing lies between its end and the next volume";
    if (end <= old_end()) return;
    entry.sectors = end - start();
    store_mbr_entry(sector, static_cast<std::size_t>(row_.number - 1), entry, 0);
    end_ = end;
    change(0, sector);
  }

  void gpt() {
    Bytes header = read_bytes(*disk_.bytes, sector_, static_cast<std::size_t>(sector_));
    const auto sum = gpt::header_sum(header);
    const std::uint64_t bytes = sum ? gpt::entries_bytes(header) : 0;
    if (!sum || *sum != le32(header, gpt::kSumAt) || bytes == 0 || bytes > kMaxGptBytes)
      refuse("the first copy of the partition table is damaged");
    const std::uint64_t entries_at = le64(header, gpt::kEntriesAt);
    Bytes entries = read_bytes(*disk_.bytes, saturating_mul(entries_at, sector_),
                               static_cast<std::size_t>(bytes));
    if (entries.size() != bytes || gpt::crc(entries) != le32(header, gpt::kEntriesSumAt))
      refuse("the entries of the partition table are damaged");
    const std::uint64_t last = sectors_ - 1, spare_at = last - divide_up(bytes, sector_);
    const std::uint64_t old_spare = le64(header, gpt::kOtherAt);
    // Of an entry its number is its place.
    const std::uint64_t at = (row_.number - 1) * le32(header, gpt::kEntryBytesAt);
    if (at + gpt::entry::kMinBytes > entries.size() ||
        le64(entries, at + gpt::entry::kFirstAt) != start())
      refuse("the table does not say where the volume begins");
    const std::uint64_t end = room_to(spare_at);
    step_.evidence = "nothing lies between its end and the next volume";
    if (old_spare < last) step_.evidence += "; the spare copy of the table moves to the new end";
    if (end <= old_end() && old_spare == last) return;
    if (end > old_end()) {
      store_le64(entries, at + gpt::entry::kLastAt, end - 1);
      end_ = end;
    }
    store_le64(header, gpt::kOtherAt, last);
    store_le64(header, gpt::kLastUsableAt, spare_at - 1);
    store_le32(header, gpt::kEntriesSumAt, gpt::crc(entries));
    Bytes spare = header;
    gpt::store_header_sum(header);
    store_le64(spare, gpt::kOwnAt, last);
    store_le64(spare, gpt::kOtherAt, 1);
    store_le64(spare, gpt::kEntriesAt, spare_at);
    gpt::store_header_sum(spare);
    // The spare first: one of the two is whole at every moment.
    change(spare_at, entries);
    change(last, spare);
    change(entries_at, entries);
    change(1, header);
    protective();
    // Nobody is to take the old one for that of another disk.
    if (old_spare < last && old_spare > 1)
      change(old_spare, Bytes(static_cast<std::size_t>(sector_)));
  }

  void protective() {
    Bytes sector = read_bytes(*disk_.bytes, 0, static_cast<std::size_t>(sector_));
    MbrEntry entry = mbr_entry(sector, 0);
    if (entry.type != 0xEE || entry.start != 1) return;
    entry.sectors = std::min<std::uint64_t>(sectors_ - 1, kMaxMbrSectors);
    store_mbr_entry(sector, 0, entry, 0);
    change(0, sector);
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
