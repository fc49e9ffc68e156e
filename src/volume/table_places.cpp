#include "volume/table_places.h"

#include <fmt/format.h>

#include "base/bytes.h"
#include "volume/gpt_layout.h"

namespace lantern {
namespace {

// A boot record with a table: entries that can be, at least one of them, and no volume's own code.
bool begins_disk(ByteView sector) {
  if (!has_boot_mark(sector)) return false;
  // The boot sector of a volume begins with a jump and says how large its sectors are.
  const bool jump = u8(sector, 0) == 0xEB || u8(sector, 0) == 0xE9;
  if (jump && (le16(sector, 11) == 512 || le16(sector, 11) == 4096)) return false;
  std::size_t entries = 0;
  for (std::size_t at = 446; at < 510; at += 16) {
    const std::uint8_t flag = u8(sector, at);
    if (flag != 0 && flag != 0x80) return false;
    const bool used = u8(sector, at + 4) != 0;
    if (used && (le32(sector, at + 8) == 0 || le32(sector, at + 12) == 0)) return false;
    if (used) ++entries;
  }
  return entries > 0;
}

// The sector a GPT header says it lies in; empty when this is none, or its checksum is wrong.
std::optional<std::uint64_t> gpt_own_sector(ByteView sector) {
  if (!has_text(sector, 0, gpt::kSignature) || gpt::header_sum(sector) != le32(sector, gpt::kSumAt))
    return std::nullopt;
  return le64(sector, gpt::kOwnAt);
}

class Tables final : public PlaceFinder {
 public:
  explicit Tables(const LoosePieces& loose) : loose_(loose) {}

  void look(std::size_t piece, std::uint64_t within, ByteView sector) override {
    if (within == 0 && begins_disk(sector))
      claims_.push_back({piece, 0, "it begins with a boot record and a partition table"});
    const auto own = gpt_own_sector(sector);
    if (!own) return;
    // The header at the start is sector 1: how far in it lies tells the size of a sector.
    for (const std::uint64_t size : {512u, 4096u})
      if (*own < (1ull << 50) && *own * size >= within &&
          (*own * size - within) % loose_.piece_bytes == 0) {
        claims_.push_back({piece, *own * size - within,
                           fmt::format("it holds the GPT header of sector {}", *own)});
        break;
      }
  }

  std::vector<PlaceClaim> claims(const SourcePtr& /*known*/, Expectations& /*expected*/) override {
    return claims_;
  }

 private:
  const LoosePieces& loose_;
  std::vector<PlaceClaim> claims_;
};

}  // namespace

std::unique_ptr<PlaceFinder> table_places(const LoosePieces& loose, const Context& /*context*/) {
  return std::make_unique<Tables>(loose);
}

std::optional<std::uint64_t> volume_start(const std::vector<VolumeRow>& rows,
                                          std::uint64_t disk_bytes, std::uint64_t volume_bytes,
                                          std::uint64_t said) {
  constexpr std::uint64_t kSlack = 1u << 20;
  const auto fills = [&](std::uint64_t bytes) {
    return bytes >= volume_bytes && bytes - volume_bytes < kSlack;
  };
  std::optional<std::uint64_t> filled;
  std::size_t count = 0;
  for (const VolumeRow& row : rows) {
    if (said != 0 && row.range.offset == said) return said;
    if (!fills(row.range.length)) continue;
    filled = row.range.offset;
    ++count;
  }
  if (count == 1) return filled;
  if (said != 0 && rows.empty()) return said;
  if (rows.empty() && fills(disk_bytes)) return 0;
  return std::nullopt;
}

std::uint64_t disk_bytes_inside(const SourcePtr& known) {
  for (const std::uint64_t size : {512u, 4096u}) {
    Bytes sector(kSector);
    if (known->read(size, sector).length < kSector || gpt_own_sector(sector) != 1) continue;
    const std::uint64_t copy = le64(sector, 32);
    if (copy < (1ull << 50)) return (copy + 1) * size;
  }
  return 0;
}

}  // namespace lantern
