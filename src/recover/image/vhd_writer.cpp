// A fixed or dynamic VHD; the layout is in container/vhd.h.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/lay.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kBlock = 2u << 20;
constexpr std::uint64_t kBitmap = 512;
constexpr std::uint64_t kHeaderAt = 512;
constexpr std::uint64_t kTableAt = 1536;
constexpr std::uint64_t kMostDisk = 2040ull << 30;

void lay_checksum(Bytes& bytes, std::size_t field) {
  std::uint32_t sum = 0;
  for (const std::byte b : bytes) sum += std::to_integer<std::uint32_t>(b);
  lay_be32(bytes, field, ~sum);
}

// Cylinders, heads and sectors of a track, as the specification's appendix works them out.
std::uint32_t geometry(std::uint64_t disk_bytes) {
  constexpr std::uint64_t kMost = 65535ull * 16 * 255;
  const std::uint64_t sectors = std::min(disk_bytes / kSector, kMost);
  std::uint64_t per_track = 255;
  std::uint64_t heads = 16;
  std::uint64_t tracks = sectors / per_track;
  if (sectors < 65535ull * 16 * 63) {
    per_track = 17;
    tracks = sectors / per_track;
    heads = std::max<std::uint64_t>((tracks + 1023) / 1024, 4);
    if (tracks >= heads * 1024 || heads > 16) {
      per_track = 31;
      heads = 16;
      tracks = sectors / per_track;
    }
    if (tracks >= heads * 1024) {
      per_track = 63;
      tracks = sectors / per_track;
    }
  }
  const std::uint64_t cylinders = tracks / heads;
  return static_cast<std::uint32_t>(cylinders << 16 | heads << 8 | per_track);
}

Bytes make_footer(std::uint64_t disk_bytes, bool fixed) {
  Bytes footer(kSector);
  lay_text(footer, 0, "conectix");
  lay_be32(footer, 0x08, 2);
  lay_be32(footer, 0x0C, 0x00010000);
  lay_be64(footer, 0x10, fixed ? ~0ull : kHeaderAt);
  // Readers go by this mark whether the size field counts or the rounded geometry: here the size.
  lay_text(footer, 0x1C, "win ");
  lay_be32(footer, 0x20, 0x00010000);
  lay_be64(footer, 0x28, disk_bytes);
  lay_be64(footer, 0x30, disk_bytes);
  lay_be32(footer, 0x38, geometry(disk_bytes));
  lay_be32(footer, 0x3C, fixed ? 2 : 3);
  lay_bytes(footer, 0x44, new_guid());
  lay_checksum(footer, 0x40);
  return footer;
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
    lay_be32(table_, static_cast<std::size_t>(block * 4), next_ / kSector);
    out_.write(next_, Bytes(kBitmap, std::byte{0xFF}));
    out_.write(next_ + kBitmap, bytes);
    next_ += kBitmap + kBlock;
  }

  void finish() override {
    const Bytes footer = make_footer(disk_bytes_, false);
    Bytes header(1024);
    lay_text(header, 0, "cxsparse");
    lay_be64(header, 0x08, ~0ull);
    lay_be64(header, 0x10, kTableAt);
    lay_be32(header, 0x18, 0x00010000);
    lay_be32(header, 0x1C, blocks_);
    lay_be32(header, 0x20, kBlock);
    lay_checksum(header, 0x24);
    out_.write(0, footer);
    out_.write(kHeaderAt, header);
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
  if (disk_bytes > kMostDisk)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                fmt::format("a VHD holds at most 2040 GiB; the disk has {} bytes", disk_bytes),
                "write it as vhdx, qcow2 or raw");
  if (fixed) return std::make_unique<FixedVhdWriter>(out, disk_bytes);
  return std::make_unique<DynamicVhdWriter>(out, disk_bytes);
}

}  // namespace lantern
