// QCOW2 (layout: container/qcow/layout.h): the size, and entries of the first table, which goes to
// the end of the file where its clusters have no room for them.
#include "base/checked.h"
#include "base/store.h"
#include "container/qcow/counts.h"
#include "container/qcow/layout.h"
#include "repair/grow/image/image_step.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxEntries = (32u << 20) / qcow::kEntryBytes;  // as the hypervisor has it

// Of an entry of a second table.
std::uint64_t level2_bytes(const ImageStep& image, ByteView header) {
  constexpr std::uint64_t kElsewhere = 4, kWide = 16;  // data in a file of their own; two words
  if (be32(header, qcow::kVersionAt) < 3) return qcow::kEntryBytes;
  const std::uint64_t features = be64(image.read(qcow::kFeaturesAt, 8), 0);
  if ((features & kElsewhere) != 0) image.not_yet();
  return (features & kWide) != 0 ? 2 * qcow::kEntryBytes : qcow::kEntryBytes;
}

// The larger table at the end, counted; then the header; then the clusters of the old one are free.
void move_table(ImageStep& image, const Bytes& before, Bytes& after, std::uint64_t had,
                std::uint64_t needed, const Context& context) {
  const auto header = read_qcow2_header(image.file, context);
  if (!header || header->dirty())
    image.refuse("its counts of clusters are not kept up", "repair it first");
  const std::uint64_t cluster = header->cluster_bytes();
  const std::uint64_t old = be64(before, qcow::kLevel1OffsetAt);
  Bytes table = image.read(old, static_cast<std::size_t>(had * qcow::kEntryBytes));
  if (table.size() != had * qcow::kEntryBytes) image.refuse("its first table is cut", "repair it");
  table.resize(static_cast<std::size_t>(divide_up(needed * qcow::kEntryBytes, cluster) * cluster));
  qcow::Counts counts(image.disk.file, *header);
  const std::uint64_t at = counts.take(table.size() / cluster);
  for (std::uint64_t i = 0; i < divide_up(had * qcow::kEntryBytes, cluster); ++i)
    counts.give_back(old + i * cluster);
  store_be64(after, qcow::kLevel1OffsetAt, at);
  std::vector<LayerWrite> grown, shrunk;
  counts.write_grown(grown);
  counts.write_shrunk(shrunk);
  for (LayerWrite& write : grown) image.write(write.offset, std::move(write.bytes));
  image.write(at, std::move(table));
  image.change(0, before, after);
  for (LayerWrite& write : shrunk) image.write(write.offset, std::move(write.bytes));
  image.step.evidence = "its first table, which has no room, goes to the end of the file";
}

}  // namespace

void grow_qcow2(ImageStep& image, const Context& context) {
  const Bytes before = image.read(0, qcow::kVersion2Bytes);
  const std::uint32_t bits = be32(before, qcow::kClusterBitsAt);
  if (bits < qcow::kMinClusterBits || bits > qcow::kMaxClusterBits) image.not_yet();
  // Of an entry of the first table.
  const std::uint64_t cluster = std::uint64_t{1} << bits;
  const std::uint64_t reach = cluster * (cluster / level2_bytes(image, before));
  const std::uint64_t needed = divide_up(image.to, reach);
  const std::uint64_t had = be32(before, qcow::kLevel1EntriesAt);
  const std::uint64_t room =
      divide_up(had * qcow::kEntryBytes, cluster) * (cluster / qcow::kEntryBytes);
  if (needed > kMaxEntries)
    image.refuse("the image's first table would be too large", "make a copy with larger clusters");
  Bytes after = before;
  store_be64(after, qcow::kDiskBytesAt, image.to);
  if (needed > had) store_be32(after, qcow::kLevel1EntriesAt, needed);
  if (needed > room) {
    move_table(image, before, after, had, needed, context);
    return;
  }
  image.add_entries(be64(before, qcow::kLevel1OffsetAt), had, needed, qcow::kEntryBytes,
                    std::byte{0});
  image.step.evidence = "its first table has room for the entries that are added";
  image.change(0, before, after);
}

}  // namespace lantern::repair
