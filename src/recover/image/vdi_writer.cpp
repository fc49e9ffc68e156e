// A dynamic VDI; the layout is in container/vdi.h.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/lay.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

constexpr std::uint64_t kBlock = 1u << 20;
constexpr std::uint64_t kMapAt = 1u << 20;
constexpr std::uint64_t kMostDisk = 64ull << 40;
constexpr std::uint64_t kSector = 512;

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
    lay_le32(map_, static_cast<std::size_t>(block * 4), stored_);
    out_.write(data_at_ + stored_ * kBlock, bytes);
    ++stored_;
  }

  void finish() override {
    Bytes header(kSector);
    lay_text(header, 0, "<<< Virtual disk image >>>\n");
    lay_le32(header, 0x40, 0xBEDA107F);
    lay_le32(header, 0x44, 0x00010001);
    lay_le32(header, 0x48, 0x190);
    lay_le32(header, 0x4C, 1);
    lay_le32(header, 0x154, kMapAt);
    lay_le32(header, 0x158, data_at_);
    lay_le32(header, 0x168, kSector);
    lay_le64(header, 0x170, disk_bytes_);
    lay_le32(header, 0x178, kBlock);
    lay_le32(header, 0x180, blocks_);
    lay_le32(header, 0x184, stored_);
    lay_bytes(header, 0x188, new_guid());
    lay_bytes(header, 0x198, new_guid());
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
  if (disk_bytes > kMostDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a VDI of {} bytes is larger than we write", disk_bytes),
                "write it as raw");
  return std::make_unique<VdiWriter>(out, disk_bytes);
}

}  // namespace lantern
