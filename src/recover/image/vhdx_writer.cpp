// A dynamic VHDX; the layout is in container/vhdx/vhdx.h.
#include <fmt/format.h>

#include <array>

#include "base/checked.h"
#include "base/crc32c.h"
#include "base/lay.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMiB = 1u << 20;
constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kBlock = 2 * kMiB;
constexpr std::uint64_t kChunkBlocks = (std::uint64_t{1} << 23) * kSector / kBlock;
constexpr std::uint64_t kLogAt = kMiB;
constexpr std::uint64_t kMetadataAt = 2 * kMiB;
constexpr std::uint64_t kTableAt = 3 * kMiB;
constexpr std::uint64_t kMostDisk = 64ull << 40;
constexpr std::uint64_t kPresent = 6;

using Guid = std::array<std::uint8_t, 16>;
constexpr Guid kTableId = {0x66, 0x77, 0xc2, 0x2d, 0x23, 0xf6, 0x00, 0x42,
                           0x9d, 0x64, 0x11, 0x5e, 0x9b, 0xfd, 0x4a, 0x08};
constexpr Guid kMetadataId = {0x06, 0xa2, 0x7c, 0x8b, 0x90, 0x47, 0x9a, 0x4b,
                              0xb8, 0xfe, 0x57, 0x5f, 0x05, 0x0f, 0x88, 0x6e};
constexpr Guid kFileParameters = {0x37, 0x67, 0xa1, 0xca, 0x36, 0xfa, 0x43, 0x4d,
                                  0xb3, 0xb6, 0x33, 0xf0, 0xaa, 0x44, 0xe7, 0x6b};
constexpr Guid kDiskSize = {0x24, 0x42, 0xa5, 0x2f, 0x1b, 0xcd, 0x76, 0x48,
                            0xb2, 0x11, 0x5d, 0xbe, 0xd8, 0x3b, 0xf4, 0xb8};
constexpr Guid kDiskId = {0xab, 0x12, 0xca, 0xbe, 0xe6, 0xb2, 0x23, 0x45,
                          0x93, 0xef, 0xc3, 0x09, 0xe0, 0x00, 0xc7, 0x46};
constexpr Guid kLogicalSector = {0x1d, 0xbf, 0x41, 0x81, 0x6f, 0xa9, 0x09, 0x47,
                                 0xba, 0x47, 0xf2, 0x33, 0xa8, 0xfa, 0xab, 0x5f};
constexpr Guid kPhysicalSector = {0xc7, 0x48, 0xa3, 0xcd, 0x5d, 0x44, 0x71, 0x44,
                                  0x9c, 0xc9, 0xe9, 0x88, 0x52, 0x51, 0xc5, 0x56};

void lay_guid(Bytes& bytes, std::size_t at, const Guid& id) {
  lay_bytes(bytes, at, std::as_bytes(std::span(id)));
}

class VhdxWriter final : public ImageWriter {
 public:
  VhdxWriter(OutputFile& out, std::uint64_t disk_bytes)
      : out_(out), disk_bytes_(divide_up(disk_bytes, kSector) * kSector) {
    const std::uint64_t blocks = divide_up(disk_bytes_, kBlock);
    const std::uint64_t entries = blocks + (blocks - 1) / kChunkBlocks;
    table_.resize(static_cast<std::size_t>(divide_up(entries * 8, kMiB) * kMiB));
    next_ = kTableAt + table_.size();
  }

  std::uint64_t block_bytes() const override { return kBlock; }

  void put(std::uint64_t block, ByteView bytes) override {
    const auto at = static_cast<std::size_t>((block + block / kChunkBlocks) * 8);
    lay_le64(table_, at, next_ | kPresent);
    out_.write(next_, bytes);
    next_ += kBlock;
  }

  void finish() override {
    Bytes start(kMiB);
    lay_text(start, 0, "vhdxfile");
    const Bytes file_id = new_guid();
    const Bytes data_id = new_guid();
    // Both copies of each; the second header is the one that counts.
    lay_bytes(start, 64u << 10, header(1, file_id, data_id));
    lay_bytes(start, 128u << 10, header(2, file_id, data_id));
    const Bytes table = regions();
    lay_bytes(start, 192u << 10, table);
    lay_bytes(start, 256u << 10, table);
    out_.write(0, start);
    out_.write(kMetadataAt, metadata());
    out_.write(kTableAt, table_);
    out_.set_length(next_);
  }

 private:
  static Bytes header(std::uint64_t sequence, const Bytes& file_id, const Bytes& data_id) {
    Bytes bytes(4096);
    lay_text(bytes, 0, "head");
    lay_le64(bytes, 8, sequence);
    lay_bytes(bytes, 16, file_id);
    lay_bytes(bytes, 32, data_id);
    lay_le16(bytes, 66, 1);
    lay_le32(bytes, 68, kMiB);
    lay_le64(bytes, 72, kLogAt);
    lay_le32(bytes, 4, crc32c_without(bytes, 4));
    return bytes;
  }

  Bytes regions() const {
    Bytes bytes(64u << 10);
    lay_text(bytes, 0, "regi");
    lay_le32(bytes, 8, 2);
    const auto region = [&](std::size_t at, const Guid& id, std::uint64_t offset,
                            std::uint64_t length) {
      lay_guid(bytes, at, id);
      lay_le64(bytes, at + 16, offset);
      lay_le32(bytes, at + 24, length);
      lay_le32(bytes, at + 28, 1);
    };
    region(16, kTableId, kTableAt, table_.size());
    region(48, kMetadataId, kMetadataAt, kMiB);
    lay_le32(bytes, 4, crc32c_without(bytes, 4));
    return bytes;
  }

  Bytes metadata() const {
    constexpr std::size_t kItemsAt = 64u << 10;
    Bytes bytes(kMiB);
    lay_text(bytes, 0, "metadata");
    std::size_t count = 0;
    std::size_t next = 0;
    const auto item = [&](const Guid& id, std::size_t length, std::uint32_t flags) {
      const std::size_t entry = 32 + 32 * count++;
      lay_guid(bytes, entry, id);
      lay_le32(bytes, entry + 16, kItemsAt + next);
      lay_le32(bytes, entry + 20, length);
      lay_le32(bytes, entry + 24, flags);
      const std::size_t place = kItemsAt + next;
      next += length;
      return place;
    };
    constexpr std::uint32_t kOfDisk = 2;
    constexpr std::uint32_t kRequired = 4;
    lay_le32(bytes, item(kFileParameters, 8, kRequired), kBlock);
    lay_le64(bytes, item(kDiskSize, 8, kRequired | kOfDisk), disk_bytes_);
    lay_bytes(bytes, item(kDiskId, 16, kRequired | kOfDisk), new_guid());
    lay_le32(bytes, item(kLogicalSector, 4, kRequired | kOfDisk), kSector);
    lay_le32(bytes, item(kPhysicalSector, 4, kRequired | kOfDisk), 4096);
    lay_le16(bytes, 10, count);
    return bytes;
  }

  OutputFile& out_;
  std::uint64_t disk_bytes_;
  Bytes table_;
  std::uint64_t next_ = 0;
};

}  // namespace

std::unique_ptr<ImageWriter> make_vhdx_writer(OutputFile& out, std::uint64_t disk_bytes) {
  if (disk_bytes > kMostDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a VHDX holds at most 64 TiB; the disk has {} bytes", disk_bytes),
                "write it as qcow2 or raw");
  return std::make_unique<VhdxWriter>(out, disk_bytes);
}

}  // namespace lantern
