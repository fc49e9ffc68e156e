#include "filesystem/ntfs/bitmap.h"

#include <algorithm>
#include <array>

namespace lantern::ntfs {
namespace {

constexpr std::uint64_t kPieceBytes = 4096;

}  // namespace

ClusterBitmap::ClusterBitmap(const Volume& volume) : cluster_count_(volume.clusters_there()) {
  const auto file = volume.file(kBitmapRecord);
  const Stream* const data = file ? file->find(kData) : nullptr;
  if (data != nullptr && data->size_bytes >= cluster_count_ / 8)
    bits_ = volume.bytes_of(*data, volume.cached);
  else
    volume.context.report(FindingCode::ntfs_bitmap, Severity::damage,
                          volume.record_place(kBitmapRecord),
                          "the allocation bitmap cannot be read", "every cluster counts as in use");
}

std::pair<std::uint64_t, bool> ClusterBitmap::alike(std::uint64_t cluster,
                                                    std::uint64_t end) const {
  if (!bits_) return {end, true};
  std::optional<bool> used;
  std::array<std::byte, kPieceBytes> piece{};
  while (cluster < end) {
    const std::uint64_t first = cluster / (kPieceBytes * 8) * (kPieceBytes * 8);
    const ReadResult got = bits_->read(first / 8, piece);
    const std::uint64_t stop = std::min(end, first + kPieceBytes * 8);
    while (cluster < stop) {
      const auto at = static_cast<std::size_t>((cluster - first) / 8);
      const bool known = at < got.length && got.unreadable.empty();
      const bool now = !known || (std::to_integer<unsigned>(piece[at]) >> (cluster % 8) & 1) != 0;
      if (used && *used != now) return {cluster, *used};
      used = now;
      // A byte of one kind at once.
      const bool whole = known && cluster % 8 == 0 && stop - cluster >= 8 &&
                         piece[at] == (now ? std::byte{0xFF} : std::byte{0});
      cluster += whole ? 8 : 1;
    }
  }
  return {end, used.value_or(true)};
}

std::uint64_t ClusterBitmap::clusters_in_use() const {
  std::uint64_t sum = 0;
  // What lies behind the end of the volume itself takes nothing.
  const std::uint64_t count = bits_ ? std::min(cluster_count_, bits_->size() * 8) : cluster_count_;
  for (std::uint64_t at = 0; at < count;) {
    const auto [end, used] = alike(at, count);
    if (used) sum += end - at;
    at = end;
  }
  return sum;
}

}  // namespace lantern::ntfs
