// A fixed or dynamic VHD; the layout is in container/vhd/layout.h.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/vhd/layout.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

using namespace vhd;

constexpr std::uint64_t kBlock = 2u << 20;
constexpr std::uint64_t kBitmap = 512;
constexpr std::uint64_t kHeaderAt = 512;
constexpr std::uint64_t kTableAt = 1536;

Bytes make_footer(std::uint64_t disk_bytes, bool fixed) {
  Bytes made(kSector);
  store_text(made, 0, footer::kMark);
  store_be32(made, footer::kFeaturesAt, 2);
  store_be32(made, footer::kVersionAt, kVersion);
  store_be64(made, footer::kHeaderOffsetAt, fixed ? ~0ull : kHeaderAt);
  // Readers go by this mark whether the size field counts or the rounded geometry: here the size.
  store_text(made, footer::kMakerAt, "win ");
  store_be32(made, footer::kMakerVersionAt, kVersion);
  store_be64(made, footer::kFirstBytesAt, disk_bytes);
  store_be64(made, footer::kDiskBytesAt, disk_bytes);
  store_be32(made, footer::kGeometryAt, geometry(disk_bytes));
  store_be32(made, footer::kKindAt, fixed ? kFixed : kDynamic);
  store_bytes(made, footer::kIdAt, new_guid());
  store_be32(made, footer::kSumAt, checksum(made, footer::kSumAt));
  return made;
}

class FixedVhdWriter final : public ImageWriter {
 public:
  FixedVhdWriter(OutputFile& out, std::uint64_t disk_bytes)
      : out_(out), disk_bytes_(divide_up(disk_bytes, kSector) * kSector) {}

  std::uint64_t block_bytes() const override { return kPiece; }

  void put(std::uint64_t block, ByteView bytes) override {
    const std::uint64_t at = block * kPiece;
    out_.write(at, bytes.first(static_cast<std::size_t>(
                       std::min<std::uint64_t>(bytes.size(), disk_bytes_ - at))));
  }

  void finish() override { out_.write(disk_bytes_, make_footer(disk_bytes_, true)); }

 private:
  static constexpr std::uint64_t kPiece = 64u << 10;
  OutputFile& out_;
  std::uint64_t disk_bytes_;
};

class DynamicVhdWriter final : public ImageWriter {
 public:
  DynamicVhdWriter(OutputFile& out, std::uint64_t disk_bytes)
      : out_(out),
        disk_bytes_(divide_up(disk_bytes, kSector) * kSector),
        blocks_(divide_up(disk_bytes_, kBlock)),
        table_(static_cast<std::size_t>(divide_up(blocks_ * 4, kSector) * kSector),
               std::byte{0xFF}),
        next_(kTableAt + table_.size()) {}

  std::uint64_t block_bytes() const override { return kBlock; }

  void put(std::uint64_t block, ByteView bytes) override {
    store_be32(table_, static_cast<std::size_t>(block * 4), next_ / kSector);
    out_.write(next_, Bytes(kBitmap, std::byte{0xFF}));
    out_.write(next_ + kBitmap, bytes);
    next_ += kBitmap + kBlock;
  }

  void finish() override {
    const Bytes footer = make_footer(disk_bytes_, false);
    Bytes made(kHeaderBytes);
    store_text(made, 0, header::kMark);
    store_be64(made, header::kNextAt, ~0ull);
    store_be64(made, header::kTableOffsetAt, kTableAt);
    store_be32(made, header::kVersionAt, kVersion);
    store_be32(made, header::kEntryCountAt, blocks_);
    store_be32(made, header::kBlockBytesAt, kBlock);
    store_be32(made, header::kSumAt, checksum(made, header::kSumAt));
    out_.write(0, footer);
    out_.write(kHeaderAt, made);
    out_.write(kTableAt, table_);
    out_.write(next_, footer);
  }

 private:
  OutputFile& out_;
  std::uint64_t disk_bytes_;
  std::uint64_t blocks_;
  Bytes table_;
  std::uint64_t next_;
};

}  // namespace

std::unique_ptr<ImageWriter> make_vhd_writer(OutputFile& out, std::uint64_t disk_bytes,
                                             bool fixed) {
  if (disk_bytes > kMaxDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a VHD holds at most 2040 GiB; the disk has {} bytes", disk_bytes),
                "write it as vhdx, qcow2 or raw");
  if (fixed) return std::make_unique<FixedVhdWriter>(out, disk_bytes);
  return std::make_unique<DynamicVhdWriter>(out, disk_bytes);
}

}  // namespace lantern
