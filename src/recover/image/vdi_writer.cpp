// A dynamic VDI; the layout is in container/vdi/layout.h.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/store.h"
#include "container/vdi/layout.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

constexpr std::uint64_t kBlock = 1u << 20;
constexpr std::uint64_t kMapAt = 1u << 20;
constexpr std::uint64_t kMaxDisk = 64ull << 40;

class VdiWriter final : public ImageWriter {
 public:
  VdiWriter(OutputFile& out, std::uint64_t disk_bytes)
      : out_(out),
        disk_bytes_(divide_up(disk_bytes, kSector) * kSector),
        blocks_(divide_up(disk_bytes_, kBlock)),
        data_at_(divide_up(kMapAt + blocks_ * 4, kBlock) * kBlock),
        map_(static_cast<std::size_t>(blocks_ * 4), std::byte{0xFF}) {}

  std::uint64_t block_bytes() const override { return kBlock; }

  void put(std::uint64_t block, ByteView bytes) override {
    store_le32(map_, static_cast<std::size_t>(block * 4), stored_);
    out_.write(data_at_ + stored_ * kBlock, bytes);
    ++stored_;
  }

  void finish() override {
    Bytes header(kSector);
    store_text(header, 0, "<<< Virtual disk image >>>\n");
    store_le32(header, vdi::kSignatureAt, vdi::kSignature);
    store_le32(header, vdi::kVersionAt, vdi::kVersion);
    store_le32(header, vdi::kHeaderLengthAt, vdi::kHeaderLength);
    store_le32(header, vdi::kKindAt, vdi::kDynamic);
    store_le32(header, vdi::kMapOffsetAt, kMapAt);
    store_le32(header, vdi::kDataOffsetAt, data_at_);
    store_le32(header, vdi::kSectorBytesAt, kSector);
    store_le64(header, vdi::kDiskBytesAt, disk_bytes_);
    store_le32(header, vdi::kBlockBytesAt, kBlock);
    store_le32(header, vdi::kBlockCountAt, blocks_);
    store_le32(header, vdi::kBlocksStoredAt, stored_);
    store_bytes(header, vdi::kIdAt, new_guid());
    store_bytes(header, vdi::kStateIdAt, new_guid());
    out_.write(0, header);
    out_.write(kMapAt, map_);
    out_.set_length(data_at_ + stored_ * kBlock);
  }

 private:
  OutputFile& out_;
  std::uint64_t disk_bytes_;
  std::uint64_t blocks_;
  std::uint64_t data_at_;
  Bytes map_;
  std::uint64_t stored_ = 0;
};

}  // namespace

std::unique_ptr<ImageWriter> make_vdi_writer(OutputFile& out, std::uint64_t disk_bytes) {
  if (disk_bytes > kMaxDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a VDI of {} bytes is larger than we write", disk_bytes),
                "write it as raw");
  return std::make_unique<VdiWriter>(out, disk_bytes);
}

}  // namespace lantern
