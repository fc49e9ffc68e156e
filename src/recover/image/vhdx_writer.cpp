// A dynamic VHDX; the layout is in container/vhdx/layout.h.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/guid.h"
#include "container/vhdx/layout.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

using namespace vhdx;

constexpr std::uint64_t kMiB = 1u << 20;
constexpr std::uint64_t kBlock = 2 * kMiB;
constexpr std::uint64_t kChunkBlocks = kChunkSectors * kSector / kBlock;
constexpr std::uint64_t kLogAt = kMiB;
constexpr std::uint64_t kMetadataAt = 2 * kMiB;
constexpr std::uint64_t kTableAt = 3 * kMiB;
constexpr std::uint64_t kMaxDisk = 64ull << 40;

class VhdxWriter final : public ImageWriter {
 public:
  VhdxWriter(OutputFile& out, std::uint64_t disk_bytes)
      : out_(out), disk_bytes_(divide_up(disk_bytes, kSector) * kSector) {
    const std::uint64_t blocks = divide_up(disk_bytes_, kBlock);
    const std::uint64_t entries = blocks + (blocks - 1) / kChunkBlocks;
    table_.resize(static_cast<std::size_t>(divide_up(entries * kEntryBytes, kMiB) * kMiB));
    next_ = kTableAt + table_.size();
  }

  std::uint64_t block_bytes() const override { return kBlock; }

  void put(std::uint64_t block, ByteView bytes) override {
    const auto at = static_cast<std::size_t>((block + block / kChunkBlocks) * kEntryBytes);
    store_le64(table_, at, next_ | kPresent);
    out_.write(next_, bytes);
    next_ += kBlock;
  }

  void finish() override {
    Bytes start(kMiB);
    store_text(start, 0, kMark);
    const Bytes file_id = new_guid();
    const Bytes data_id = new_guid();
    // Both copies of each; the second header is the one that counts.
    store_bytes(start, kHeadersAt[0], make_header(1, file_id, data_id));
    store_bytes(start, kHeadersAt[1], make_header(2, file_id, data_id));
    const Bytes table = make_regions();
    store_bytes(start, kRegionsAt[0], table);
    store_bytes(start, kRegionsAt[1], table);
    out_.write(0, start);
    out_.write(kMetadataAt, make_metadata());
    out_.write(kTableAt, table_);
    out_.set_length(next_);
  }

 private:
  static Bytes make_header(std::uint64_t sequence, const Bytes& file_id, const Bytes& data_id) {
    Bytes bytes(kHeaderBytes);
    store_text(bytes, 0, header::kMark);
    store_le64(bytes, header::kSequenceAt, sequence);
    store_bytes(bytes, header::kFileIdAt, file_id);
    store_bytes(bytes, header::kDataIdAt, data_id);
    store_le16(bytes, header::kVersionAt, 1);
    store_le32(bytes, header::kLogBytesAt, kMiB);
    store_le64(bytes, header::kLogOffsetAt, kLogAt);
    store_sum(bytes);
    return bytes;
  }

  Bytes make_regions() const {
    Bytes bytes(kRegionBytes);
    store_text(bytes, 0, regions::kMark);
    store_le32(bytes, regions::kCountAt, 2);
    const auto region = [&](std::size_t number, std::string_view id, std::uint64_t offset,
                            std::uint64_t length) {
      const std::size_t at = regions::kFirst + number * regions::kEntryBytes;
      store_guid(std::span(bytes).subspan(at), id);
      store_le64(bytes, at + regions::kOffsetAt, offset);
      store_le32(bytes, at + regions::kLengthAt, length);
      store_le32(bytes, at + regions::kNeededAt, 1);
    };
    region(0, regions::kTableId, kTableAt, table_.size());
    region(1, regions::kMetadataId, kMetadataAt, kMiB);
    store_sum(bytes);
    return bytes;
  }

  Bytes make_metadata() const {
    constexpr std::size_t kItemsAt = metadata::kTableBytes;
    Bytes bytes(kMiB);
    store_text(bytes, 0, metadata::kMark);
    std::size_t count = 0;
    std::size_t next = 0;
    const auto item = [&](std::string_view id, std::size_t length, std::uint32_t flags) {
      const std::size_t entry = metadata::kFirst + metadata::kEntryBytes * count++;
      store_guid(std::span(bytes).subspan(entry), id);
      store_le32(bytes, entry + metadata::kOffsetAt, kItemsAt + next);
      store_le32(bytes, entry + metadata::kLengthAt, length);
      store_le32(bytes, entry + metadata::kFlagsAt, flags);
      const std::size_t place = kItemsAt + next;
      next += length;
      return place;
    };
    constexpr std::uint32_t kOfDisk = 2;
    constexpr std::uint32_t kRequired = 4;
    store_le32(bytes, item(metadata::kFileParameters, 8, kRequired), kBlock);
    store_le64(bytes, item(metadata::kDiskSize, 8, kRequired | kOfDisk), disk_bytes_);
    store_bytes(bytes, item(metadata::kDiskId, 16, kRequired | kOfDisk), new_guid());
    store_le32(bytes, item(metadata::kLogicalSector, 4, kRequired | kOfDisk), kSector);
    store_le32(bytes, item(metadata::kPhysicalSector, 4, kRequired | kOfDisk), 4096);
    store_le16(bytes, metadata::kCountAt, count);
    return bytes;
  }

  OutputFile& out_;
  std::uint64_t disk_bytes_;
  Bytes table_;
  std::uint64_t next_ = 0;
};

}  // namespace

std::unique_ptr<ImageWriter> make_vhdx_writer(OutputFile& out, std::uint64_t disk_bytes) {
  if (disk_bytes > kMaxDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a VHDX holds at most 64 TiB; the disk has {} bytes", disk_bytes),
                "write it as qcow2 or raw");
  return std::make_unique<VhdxWriter>(out, disk_bytes);
}

}  // namespace lantern
