// A QCOW2 of version 3, plain or packed; the layout is in container/qcow/.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/store.h"
#include "container/qcow/layout.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

using namespace qcow;

constexpr std::uint64_t kClusterBits = 16;
constexpr std::uint64_t kCluster = 1u << kClusterBits;
constexpr std::uint64_t kTableEntries = kCluster / 8;
constexpr std::uint64_t kCountsOfCluster = kCluster / 2;  // of 16 bits
constexpr std::uint64_t kMaxDisk = 64ull << 40;
constexpr std::size_t kMaxName = 1023;

class Qcow2Writer final : public ImageWriter {
 public:
  Qcow2Writer(OutputFile& out, std::uint64_t disk_bytes, bool packed, std::string original,
              std::string original_format)
      : out_(out),
        disk_bytes_(divide_up(disk_bytes, kSector) * kSector),
        packed_(packed),
        original_(std::move(original)),
        original_format_(std::move(original_format)),
        level1_(static_cast<std::size_t>(
            divide_up(divide_up(disk_bytes_, kCluster), kTableEntries) * 8)),
        table_(kCluster) {
    next_ = kCluster + divide_up(level1_.size(), kCluster) * kCluster;
    count(0, next_);
  }

  std::uint64_t block_bytes() const override { return kCluster; }
  bool packs() const override { return packed_; }
  Bytes pack(ByteView block) const override { return deflate_block(block, false); }

  void put(std::uint64_t block, ByteView bytes) override {
    if (block / kTableEntries != table_number_) flush_table();
    table_number_ = block / kTableEntries;
    table_used_ = true;
    const auto entry = static_cast<std::size_t>(block % kTableEntries * 8);
    if (bytes.size() == kCluster) {
      store_be64(table_, entry, allocate(kCluster) | kCopied);
      out_.write(be64(table_, entry) & ~kCopied, bytes);
      return;
    }
    const std::uint64_t place = place_packed(bytes.size());
    const std::uint64_t sectors = (place % kSector + bytes.size() - 1) / kSector;
    constexpr unsigned kOffsetBits = 62 - (kClusterBits - 8);
    store_be64(table_, entry, kPacked | sectors << kOffsetBits | place);
    out_.write(place, bytes);
  }

  void finish() override {
    flush_table();
    out_.write(kCluster, level1_);
    const auto [counts_at, counts_clusters] = write_counts();
    Bytes header(kCluster);
    store_text(header, 0, kMark);
    store_be32(header, kVersionAt, 3);
    store_be32(header, kClusterBitsAt, kClusterBits);
    store_be64(header, kDiskBytesAt, disk_bytes_);
    store_be32(header, kLevel1EntriesAt, level1_.size() / 8);
    store_be64(header, kLevel1OffsetAt, kCluster);
    store_be64(header, kCountsOffsetAt, counts_at);
    store_be32(header, kCountsClustersAt, counts_clusters);
    store_be32(header, kCountBitsAt, 4);
    store_be32(header, kHeaderBytesAt, kHeaderBytes);
    if (!original_.empty()) {
      std::size_t at = kHeaderBytes;
      store_be32(header, at, kParentFormatExtension);
      store_be32(header, at + 4, original_format_.size());
      store_text(header, at + 8, original_format_);
      at += 8 + divide_up(original_format_.size(), 8) * 8 + 8;  // and the end of the extensions
      store_be64(header, kParentOffsetAt, at);
      store_be32(header, kParentBytesAt, original_.size());
      store_text(header, at, original_);
    }
    out_.write(0, header);
    out_.set_length(next_);
  }

 private:
  std::uint64_t allocate(std::uint64_t bytes) {
    const std::uint64_t place = next_;
    next_ += bytes;
    count(place, bytes);
    packed_to_ = 0;
    return place;
  }

  // Packed clusters follow one another byte by byte, each cluster of the file counting its tenants.
  std::uint64_t place_packed(std::size_t bytes) {
    if (packed_to_ == 0 || packed_to_ + bytes > next_) {
      if (packed_to_ == 0) packed_to_ = next_;
      next_ = divide_up(packed_to_ + bytes, kCluster) * kCluster;
    }
    const std::uint64_t place = packed_to_;
    packed_to_ += bytes;
    count(place / kSector * kSector,
          divide_up(packed_to_, kSector) * kSector - place / kSector * kSector);
    if (packed_to_ == next_) packed_to_ = 0;
    return place;
  }

  // One more user of every cluster that `bytes` from `place` touch.
  void count(std::uint64_t place, std::uint64_t bytes) {
    const std::uint64_t last = (place + bytes - 1) / kCluster;
    if (counts_.size() <= last) counts_.resize(static_cast<std::size_t>(last + 1));
    for (std::uint64_t i = place / kCluster; i <= last; ++i) ++counts_[static_cast<std::size_t>(i)];
  }

  void flush_table() {
    if (!table_used_) return;
    const std::uint64_t place = allocate(kCluster);
    out_.write(place, table_);
    store_be64(level1_, static_cast<std::size_t>(table_number_ * 8), place | kCopied);
    table_.assign(table_.size(), std::byte{0});
    table_used_ = false;
  }

  // Where the table of counts lies, and its clusters. The counts count themselves.
  std::pair<std::uint64_t, std::uint64_t> write_counts() {
    std::uint64_t blocks = 0;
    std::uint64_t tables = 0;
    for (;;) {
      const std::uint64_t clusters = next_ / kCluster + blocks + tables;
      const std::uint64_t need_blocks = divide_up(clusters, kCountsOfCluster);
      const std::uint64_t need_tables = divide_up(need_blocks, kTableEntries);
      if (need_blocks == blocks && need_tables == tables) break;
      blocks = need_blocks;
      tables = need_tables;
    }
    const std::uint64_t table_at = allocate(tables * kCluster);
    const std::uint64_t blocks_at = allocate(blocks * kCluster);
    Bytes table(static_cast<std::size_t>(tables * kCluster));
    for (std::uint64_t i = 0; i < blocks; ++i) {
      store_be64(table, static_cast<std::size_t>(i * 8), blocks_at + i * kCluster);
      Bytes block(kCluster);
      for (std::uint64_t j = 0; j < kCountsOfCluster; ++j) {
        const std::uint64_t cluster = i * kCountsOfCluster + j;
        if (cluster >= counts_.size()) break;
        store_be16(block, static_cast<std::size_t>(j * 2),
                   counts_[static_cast<std::size_t>(cluster)]);
      }
      out_.write(blocks_at + i * kCluster, block);
    }
    out_.write(table_at, table);
    return {table_at, tables};
  }

  OutputFile& out_;
  std::uint64_t disk_bytes_;
  bool packed_;
  std::string original_;
  std::string original_format_;
  Bytes level1_;
  Bytes table_;
  std::uint64_t table_number_ = 0;
  bool table_used_ = false;
  std::uint64_t next_ = 0;
  std::uint64_t packed_to_ = 0;  // 0: no cluster of packed ones is open
  std::vector<std::uint16_t> counts_;
};

}  // namespace

std::unique_ptr<ImageWriter> make_qcow2_writer(OutputFile& out, std::uint64_t disk_bytes,
                                               bool packed, const std::string& original,
                                               const std::string& original_format) {
  if (disk_bytes > kMaxDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a qcow2 of {} bytes is larger than we write", disk_bytes),
                "write it as raw");
  if (original.size() > kMaxName)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                "the path of the original is too long to be kept in the child",
                "write the child beside the original");
  return std::make_unique<Qcow2Writer>(out, disk_bytes, packed, original, original_format);
}

}  // namespace lantern
