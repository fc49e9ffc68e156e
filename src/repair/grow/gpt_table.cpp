#include "repair/grow/gpt_table.h"

#include <algorithm>

#include "base/checked.h"
#include "lantern/error.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxGptBytes = 1u << 20;  // of the entries

[[noreturn]] void refuse_table(const DiskLayer& disk, const char* what) {
  const std::string address = disk.address.print();
  throw Error(ErrorCode::refused, address, std::nullopt, what,
              {"repair it first: ", Action{Do::plan, {address}}});
}

}  // namespace

void change_sectors(RepairStep& step, const DiskLayer& disk, std::uint64_t sector,
                    std::span<const std::byte> after) {
  const std::uint64_t at = sector * disk.table.sector_size;
  add_changes(step, disk.address.print(), at, read_bytes(*disk.bytes, at, after.size()), after);
}

GptTable::GptTable(const DiskLayer& disk)
    : disk_(disk),
      sector_(disk.table.sector_size),
      last_(disk.bytes->size() / sector_ - 1),
      header_(read_bytes(*disk.bytes, sector_, static_cast<std::size_t>(sector_))) {
  const auto sum = gpt::header_sum(header_);
  const std::uint64_t bytes = sum ? gpt::entries_bytes(header_) : 0;
  if (!sum || *sum != le32(header_, gpt::kSumAt) || bytes == 0 || bytes > kMaxGptBytes)
    refuse_table(disk_, "the first copy of the partition table is damaged");
  entries_at_ = le64(header_, gpt::kEntriesAt);
  entries_ = read_bytes(*disk.bytes, saturating_mul(entries_at_, sector_),
                        static_cast<std::size_t>(bytes));
  if (entries_.size() != bytes || gpt::crc(entries_) != le32(header_, gpt::kEntriesSumAt))
    refuse_table(disk_, "the entries of the partition table are damaged");
  spare_at_ = last_ - divide_up(bytes, sector_);
}

std::span<std::byte> GptTable::entry_of(const VolumeRow& row) {
  // Of an entry its number is its place.
  const std::uint64_t at = (row.number - 1) * le32(header_, gpt::kEntryBytesAt);
  if (row.number == 0 || at + gpt::entry::kMinBytes > entries_.size() ||
      le64(entries_, static_cast<std::size_t>(at) + gpt::entry::kFirstAt) !=
          row.range.offset / sector_)
    refuse_table(disk_, "the table does not say where the volume begins");
  return std::span(entries_).subspan(static_cast<std::size_t>(at), gpt::entry::kMinBytes);
}

bool GptTable::spare_is_at_end() const {
  return le64(header_, gpt::kOtherAt) == last_;
}

void GptTable::write(RepairStep& step) {
  const std::uint64_t old_spare = le64(header_, gpt::kOtherAt);
  store_le64(header_, gpt::kOtherAt, last_);
  store_le64(header_, gpt::kLastUsableAt, spare_at_ - 1);
  store_le32(header_, gpt::kEntriesSumAt, gpt::crc(entries_));
  Bytes spare = header_;
  gpt::store_header_sum(header_);
  store_le64(spare, gpt::kOwnAt, last_);
  store_le64(spare, gpt::kOtherAt, 1);
  store_le64(spare, gpt::kEntriesAt, spare_at_);
  gpt::store_header_sum(spare);
  // The spare first: one of the two is whole at every moment.
  change_sectors(step, disk_, spare_at_, entries_);
  change_sectors(step, disk_, last_, spare);
  change_sectors(step, disk_, entries_at_, entries_);
  change_sectors(step, disk_, 1, header_);
  Bytes protective = read_bytes(*disk_.bytes, 0, static_cast<std::size_t>(sector_));
  MbrEntry entry = mbr_entry(protective, 0);
  if (entry.type == 0xEE && entry.start == 1) {
    entry.sectors = std::min<std::uint64_t>(last_, kMaxMbrSectors);
    store_mbr_entry(protective, 0, entry, 0);
    change_sectors(step, disk_, 0, protective);
  }
  // Nobody is to take the old one for that of another disk.
  if (old_spare < last_ && old_spare > 1)
    change_sectors(step, disk_, old_spare, Bytes(static_cast<std::size_t>(sector_)));
}

}  // namespace lantern::repair
