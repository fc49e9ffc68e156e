#include "repair/grow/swap_move.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/store.h"
#include "lantern/error.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "repair/grow/gpt_table.h"
#include "repair/grow/table_growth.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

// The mark of a swap volume stands at the end of its first page, which is one of these long.
// Source: the kernel's own header of swap files.
constexpr std::array<std::size_t, 2> kPages = {4096, 65536};
constexpr std::string_view kMark = "SWAPSPACE2", kAsleep = "S1SUSPEND";

class SwapMove {
 public:
  SwapMove(const DiskLayer& disk, const VolumeLayer& swap)
      : disk_(disk),
        row_(swap.row),
        address_(swap.address.print()),
        sector_(disk.table.sector_size),
        length_(row_.range.length / sector_) {}

  RepairStep run() {
    step_.code = "grow.swap";
    for (const VolumePtr& other : disk_.volumes.all())
      if (other->row.range.offset > row_.range.offset)
        refuse(ErrorCode::unsupported, "another volume lies behind it");
    if (disk_.table.scheme == "gpt")
      gpt();
    else if (disk_.table.scheme == "mbr")
      mbr();
    else
      refuse(ErrorCode::unsupported, "it is not moved in a table of this kind");
    if (to_ == start()) return {};
    step_.what = fmt::format("the swap volume {} moves to the end of the disk", row_.number);
    step_.evidence = "a machine that is off has nothing in it; its id and its name move with it";
    return std::move(step_);
  }

 private:
  [[noreturn]] void refuse(ErrorCode code, const std::string& what) const {
    throw Error(code, address_, std::nullopt, "this swap volume is in the way, and " + what,
                "move it with its own system's tools, or remove it");
  }
  std::uint64_t start() const { return row_.range.offset / sector_; }
  // A first sector from which so many reach to `end` or a little less; `now`, where that is behind.
  std::uint64_t last_place(std::uint64_t now, std::uint64_t end, std::uint64_t length) const {
    const std::uint64_t unit = kGrownAlignment / sector_;
    return length > end ? now : std::max(now, (end - length) / unit * unit);
  }

  void head() {
    for (const std::size_t page : kPages) {
      const Bytes bytes = read_bytes(*disk_.bytes, row_.range.offset, page);
      if (has_text(bytes, page - kMark.size(), kAsleep))
        refuse(ErrorCode::refused, "a machine sleeps in it");
      if (!has_text(bytes, page - kMark.size(), kMark)) continue;
      change_sectors(step_, disk_, to_, bytes);
      return;
    }
    refuse(ErrorCode::refused, "its head is damaged");
  }

  void gpt() {
    GptTable table(disk_);
    const std::span<std::byte> entry = table.entry_of(row_);
    to_ = last_place(start(), table.usable_end(), length_);
    if (to_ == start()) return;
    head();
    store_le64(entry, gpt::entry::kFirstAt, to_);
    store_le64(entry, gpt::entry::kLastAt, to_ + length_ - 1);
    table.write(step_);
  }

  void mbr() {
    Bytes sector = read_bytes(*disk_.bytes, 0, static_cast<std::size_t>(sector_));
    const std::uint64_t end =
        std::min(disk_.bytes->size() / sector_, std::uint64_t{kMaxMbrSectors} + 1);
    for (std::size_t i = 0; i < 4; ++i) {
      MbrEntry entry = mbr_entry(sector, i);
      if (!entry.used() || start() < entry.start || start() >= entry.range().end()) continue;
      // A logical volume moves with its record, and has to be the only one.
      const std::uint64_t inside = start() - entry.start, all = inside + length_;
      const std::uint64_t place = last_place(entry.start, end, all);
      to_ = place + inside;
      if (to_ == start()) return;
      if (entry.extended()) record(entry.start, place);
      head();
      entry.start = place;
      entry.sectors = all;
      store_mbr_entry(sector, i, entry, 0);
      change_sectors(step_, disk_, 0, sector);
      return;
    }
    refuse(ErrorCode::refused, "the table does not say where it begins");
  }

  void record(std::uint64_t from, std::uint64_t to) {
    Bytes record = read_bytes(*disk_.bytes, from * sector_, static_cast<std::size_t>(sector_));
    MbrEntry own = mbr_entry(record, 0);
    if (!has_boot_mark(record) || !own.used() || from + own.start != start() ||
        mbr_entry(record, 1).used())
      refuse(ErrorCode::unsupported, "other volumes lie beside it in the extended partition");
    store_mbr_entry(record, 0, own, to);
    change_sectors(step_, disk_, to, record);
  }

  const DiskLayer& disk_;
  const VolumeRow& row_;
  std::string address_;
  std::uint64_t sector_, length_;  // of the disk in bytes, of the volume in sectors
  std::uint64_t to_ = 0;           // its first sector afterwards
  RepairStep step_;
};

}  // namespace

VolumePtr swap_behind(const DiskLayer& disk, const VolumeLayer& volume) {
  VolumePtr next;
  for (const VolumePtr& other : disk.volumes.all())
    if (other->row.range.offset >= volume.row.range.end() &&
        (!next || other->row.range.offset < next->row.range.offset))
      next = other;
  const bool is_swap = next && next->owner() && next->owner()->kind == FormatKind::swap;
  return is_swap ? next : nullptr;
}

RepairStep move_swap(const DiskLayer& disk, const VolumeLayer& swap) {
  return SwapMove(disk, swap).run();
}

}  // namespace lantern::repair
