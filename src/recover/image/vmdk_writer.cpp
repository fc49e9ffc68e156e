// Sparse and packed VMDK; the layout is in container/vmdk/sparse.h.
#include <fmt/format.h>

#include "base/checked.h"
#include "base/store.h"
#include "container/vmdk/layout.h"
#include "lantern/error.h"
#include "recover/image/writer.h"

namespace lantern {
namespace {

using namespace vmdk;

constexpr std::uint64_t kGrainSectors = 128;
constexpr std::uint64_t kGrain = kGrainSectors * kSector;
constexpr std::uint64_t kTableEntries = 512;
constexpr std::uint64_t kTableSectors = kTableEntries * 4 / kSector;
constexpr std::uint64_t kDescriptorSectors = 20;
// Entries are sectors of the file in 32 bits.
constexpr std::uint64_t kMaxDisk = 2044ull << 30;

struct Shape {
  std::uint64_t capacity = 0;  // sectors
  std::uint64_t tables = 0;
  std::uint64_t directory_sectors = 0;

  explicit Shape(std::uint64_t disk_bytes)
      : capacity(divide_up(disk_bytes, kSector)),
        tables(divide_up(divide_up(capacity, kGrainSectors), kTableEntries)),
        directory_sectors(divide_up(tables * 4, kSector)) {}
};

struct HeaderFields {
  std::uint32_t version = 1;
  std::uint32_t flags = 3;
  std::uint64_t second_directory = 0;
  std::uint64_t directory = 0;
  std::uint64_t metadata = 0;
  bool packed = false;
};

Bytes make_header(const Shape& shape, const HeaderFields& fields, bool descriptor) {
  Bytes header(kSector);
  store_text(header, 0, kMark);
  store_le32(header, kVersionAt, fields.version);
  store_le32(header, kFlagsAt, fields.flags);
  store_le64(header, kCapacityAt, shape.capacity);
  store_le64(header, kGrainAt, kGrainSectors);
  store_le64(header, kDescriptorOffsetAt, descriptor ? 1 : 0);
  store_le64(header, kDescriptorSectorsAt, descriptor ? kDescriptorSectors : 0);
  store_le32(header, kTableEntriesAt, kTableEntries);
  store_le64(header, kSecondDirectoryAt, fields.second_directory);
  store_le64(header, kDirectoryAt, fields.directory);
  store_le64(header, kMetadataAt, fields.metadata);
  store_text(header, kLineEndsAt, "\n \r\n");
  store_le16(header, kPackingAt, fields.packed ? 1 : 0);
  return header;
}

Bytes make_descriptor(const Shape& shape, const std::string& type, const std::string& name) {
  constexpr std::uint64_t kTrack = 63;
  constexpr std::uint64_t kHeads = 255;
  const std::uint32_t id = little_endian<std::uint32_t>(new_guid(), 0) | 1;
  const std::string text = fmt::format(
      "# Disk DescriptorFile\nversion=1\nCID={:08x}\nparentCID=ffffffff\ncreateType=\"{}\"\n\n"
      "# Extent description\nRW {} SPARSE \"{}\"\n\n# The Disk Data Base\n#DDB\n\n"
      "ddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = \"{}\"\n"
      "ddb.geometry.heads = \"{}\"\nddb.geometry.sectors = \"{}\"\nddb.adapterType = \"ide\"\n",
      id == 0xFFFFFFFF ? 1 : id, type, shape.capacity, name, shape.capacity / (kHeads * kTrack),
      kHeads, kTrack);
  Bytes bytes(kDescriptorSectors * kSector);
  store_text(bytes, 0, text);
  return bytes;
}

class SparseVmdkWriter final : public ImageWriter {
 public:
  SparseVmdkWriter(OutputFile& out, std::uint64_t disk_bytes, std::string name)
      : out_(out), shape_(disk_bytes), name_(std::move(name)) {
    const std::uint64_t copy = shape_.directory_sectors + shape_.tables * kTableSectors;
    second_ = 1 + kDescriptorSectors;
    first_ = second_ + copy;
    metadata_ = divide_up(first_ + copy, kGrainSectors) * kGrainSectors;
    next_ = metadata_;
    tables_.resize(static_cast<std::size_t>(shape_.tables * kTableSectors * kSector));
  }

  std::uint64_t block_bytes() const override { return kGrain; }

  void put(std::uint64_t block, ByteView bytes) override {
    store_le32(tables_, static_cast<std::size_t>(block * 4), next_);
    out_.write(next_ * kSector, bytes);
    next_ += kGrainSectors;
  }

  void finish() override {
    HeaderFields fields;
    fields.second_directory = second_;
    fields.directory = first_;
    fields.metadata = metadata_;
    out_.write(0, make_header(shape_, fields, true));
    out_.write(kSector, make_descriptor(shape_, "monolithicSparse", name_));
    for (const std::uint64_t directory : {second_, first_}) {
      Bytes entries(static_cast<std::size_t>(shape_.directory_sectors * kSector));
      const std::uint64_t tables_at = directory + shape_.directory_sectors;
      for (std::uint64_t i = 0; i < shape_.tables; ++i)
        store_le32(entries, static_cast<std::size_t>(i * 4), tables_at + i * kTableSectors);
      out_.write(directory * kSector, entries);
      out_.write(tables_at * kSector, tables_);
    }
    out_.set_length(next_ * kSector);
  }

 private:
  OutputFile& out_;
  Shape shape_;
  std::string name_;
  std::uint64_t second_ = 0;
  std::uint64_t first_ = 0;
  std::uint64_t metadata_ = 0;
  std::uint64_t next_ = 0;
  Bytes tables_;
};

class StreamVmdkWriter final : public ImageWriter {
 public:
  StreamVmdkWriter(OutputFile& out, std::uint64_t disk_bytes, std::string name)
      : out_(out),
        shape_(disk_bytes),
        name_(std::move(name)),
        directory_(static_cast<std::size_t>(shape_.directory_sectors * kSector)),
        table_(kTableSectors * kSector) {}

  std::uint64_t block_bytes() const override { return kGrain; }
  bool packs() const override { return true; }
  Bytes pack(ByteView block) const override {
    // A grain has to be packed, even one that grows by it.
    Bytes packed = deflate_block(block, true);
    return packed.size() < block.size() ? packed : stored(block);
  }

  void put(std::uint64_t block, ByteView bytes) override {
    if (block / kTableEntries != table_number_) flush_table();
    table_number_ = block / kTableEntries;
    store_le32(table_, static_cast<std::size_t>(block % kTableEntries * 4), next_);
    table_used_ = true;
    Bytes grain(divide_up(kMarkerBytes + bytes.size(), kSector) * kSector);
    store_le64(grain, 0, block * kGrainSectors);
    store_le32(grain, 8, bytes.size());
    store_bytes(grain, kMarkerBytes, bytes);
    append(grain);
  }

  void finish() override {
    flush_table();
    HeaderFields fields;
    fields.version = 3;
    fields.flags = kLineEnds | kPacked | kMarkers;
    fields.directory = ~0ull;
    fields.metadata = kGrainSectors;
    fields.packed = true;
    out_.write(0, make_header(shape_, fields, true));
    out_.write(kSector, make_descriptor(shape_, "streamOptimized", name_));
    append(marker(shape_.directory_sectors, kDirectory));
    fields.directory = next_;
    append(directory_);
    append(marker(1, kFooter));
    append(make_header(shape_, fields, true));
    append(Bytes(kSector));  // the end
  }

 private:
  static constexpr std::uint32_t kTable = 1;
  static constexpr std::uint32_t kDirectory = 2;
  static constexpr std::uint32_t kFooter = 3;

  // Deflate's own form of bytes that do not pack (RFC 1951, 3.2.4), in a zlib frame.
  static Bytes stored(ByteView block) {
    constexpr std::size_t kPart = 65'535;
    Bytes made = {std::byte{0x78}, std::byte{0x01}};
    for (std::size_t at = 0; at < block.size(); at += kPart) {
      const std::size_t length = std::min(kPart, block.size() - at);
      Bytes head(5);
      head[0] = at + length == block.size() ? std::byte{1} : std::byte{0};
      store_le16(head, 1, length);
      store_le16(head, 3, ~length);
      made.insert(made.end(), head.begin(), head.end());
      const ByteView part = block.subspan(at, length);
      made.insert(made.end(), part.begin(), part.end());
    }
    std::uint32_t a = 1;
    std::uint32_t b = 0;
    for (const std::byte byte : block) {
      a = (a + std::to_integer<std::uint32_t>(byte)) % 65'521;
      b = (b + a) % 65'521;
    }
    Bytes sum(4);
    store_be32(sum, 0, b << 16 | a);
    made.insert(made.end(), sum.begin(), sum.end());
    return made;
  }

  static Bytes marker(std::uint64_t sectors, std::uint32_t type) {
    Bytes bytes(kSector);
    store_le64(bytes, 0, sectors);
    store_le32(bytes, 12, type);
    return bytes;
  }

  void append(const Bytes& bytes) {
    out_.write(next_ * kSector, bytes);
    next_ += bytes.size() / kSector;
  }

  void flush_table() {
    if (!table_used_) return;
    append(marker(kTableSectors, kTable));
    store_le32(directory_, static_cast<std::size_t>(table_number_ * 4), next_);
    append(table_);
    table_.assign(table_.size(), std::byte{0});
    table_used_ = false;
  }

  OutputFile& out_;
  Shape shape_;
  std::string name_;
  Bytes directory_;
  Bytes table_;
  std::uint64_t table_number_ = 0;
  bool table_used_ = false;
  std::uint64_t next_ = kGrainSectors;
};

void check_size(std::uint64_t disk_bytes) {
  if (disk_bytes > kMaxDisk)
    throw Error(
        ErrorCode::unsupported, {}, std::nullopt,
        fmt::format("a sparse VMDK holds at most 2044 GiB; the disk has {} bytes", disk_bytes),
        "write it as vhdx, qcow2 or raw");
}

}  // namespace

std::unique_ptr<ImageWriter> make_vmdk_writer(OutputFile& out, std::uint64_t disk_bytes,
                                              const std::string& name) {
  check_size(disk_bytes);
  return std::make_unique<SparseVmdkWriter>(out, disk_bytes, name);
}

std::unique_ptr<ImageWriter> make_vmdk_stream_writer(OutputFile& out, std::uint64_t disk_bytes,
                                                     const std::string& name) {
  check_size(disk_bytes);
  return std::make_unique<StreamVmdkWriter>(out, disk_bytes, name);
}

}  // namespace lantern
