// A GUID partition table that is whole, to be written again with its spare copy at the end of the
// disk (layout: volume/gpt_layout.h).
//
// Thread-safety: one thread.
#pragma once

#include <span>

#include "lantern/nest/session.h"
#include "lantern/repair.h"

namespace lantern::repair {

class GptTable {
 public:
  // Throws Error{refused} where its first copy is damaged.
  explicit GptTable(const DiskLayer& disk);

  // Its entry of a volume, whose place is that of the row. Throws Error{refused} where it is not.
  std::span<std::byte> entry_of(const VolumeRow& row);
  // The sector behind the last a volume may have.
  std::uint64_t usable_end() const { return spare_at_; }
  bool spare_is_at_end() const;

  void write(RepairStep& step);

 private:
  const DiskLayer& disk_;
  std::uint64_t sector_, last_;
  std::vector<std::byte> header_, entries_;
  std::uint64_t entries_at_ = 0, spare_at_ = 0;
};

// Bytes of a disk that become others.
void change_sectors(RepairStep& step, const DiskLayer& disk, std::uint64_t sector,
                    std::span<const std::byte> after);

}  // namespace lantern::repair
