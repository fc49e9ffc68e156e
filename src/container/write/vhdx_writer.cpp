// VHDX (layout: container/vhdx/vhdx.h): both headers get new ids before the first change, one after
// the other, as the format asks; a new block goes to the end of the file, then the entry that leads
// to it, 8 bytes within one sector. Source: MS-VHDX, 2.2.2 and 2.5.
#include "base/checked.h"
#include "base/crc32c.h"
#include "container/vhdx/header.h"
#include "container/vhdx/layout.h"
#include "container/write/block_writer.h"

namespace lantern {
namespace {

using namespace vhdx;

constexpr std::uint64_t kMiB = 1u << 20;
Context quiet() {
  Context context;
  context.findings = std::make_shared<FindingSink>();
  return context;
}

// Another id than `id`, the same each time.
void change_id(std::span<std::byte> id, std::uint64_t salt) {
  const std::uint32_t sum = crc32c(id);
  for (std::size_t i = 0; i < id.size(); ++i)
    id[i] ^= static_cast<std::byte>((sum >> (i % 4 * 8)) + 17 * i + salt);
  id[7] = (id[7] & std::byte{0x0F}) | std::byte{0x40};  // RFC 9562, version 4
  id[8] = (id[8] & std::byte{0x3F}) | std::byte{0x80};
}

class VhdxWriter final : public BlockWriter {
 public:
  explicit VhdxWriter(SourcePtr file) : file_(std::move(file)) {
    const Context context = quiet();
    const VhdxRegions regions = read_vhdx_regions(*file_, context);
    const VhdxMetadata metadata = read_vhdx_metadata(*file_, regions.metadata, context);
    table_ = regions.table;
    block_bytes_ = metadata.block_bytes;
    need_block(block_bytes_);
    chunk_ = kChunkSectors * metadata.sector_bytes / metadata.block_bytes;
  }

  Range unit_at(std::uint64_t disk_offset) const override {
    return {disk_offset / block_bytes_ * block_bytes_, block_bytes_};
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    const std::uint64_t block = unit.offset / block_bytes_;
    const std::uint64_t entry_at = table_.offset + (block + block / chunk_) * kEntryBytes;
    const std::uint64_t held = le64(read_exactly(*file_, entry_at, kEntryBytes), 0);
    std::uint64_t at = held >> kPlaceShift << kPlaceShift;
    if ((held & kStateMask) != kPartlyPresent || at == 0) at = round_up(file_->size(), kMiB);
    Bytes entry(kEntryBytes);
    store_le64(entry, 0, at | kPresent);
    return {{file_, at, padded(content, block_bytes_), false}, {file_, entry_at, entry, true}};
  }

  std::vector<LayerWrite> before_first_write() const override {
    Bytes copies[2] = {read_exactly(*file_, kHeadersAt[0], kHeaderBytes),
                       read_exactly(*file_, kHeadersAt[1], kHeaderBytes)};
    const auto right = [](const Bytes& copy) {
      return is_summed(copy, kHeaderBytes, header::kMark);
    };
    const bool newer = le64(copies[1], header::kSequenceAt) > le64(copies[0], header::kSequenceAt);
    const std::size_t current = right(copies[1]) && (!right(copies[0]) || newer) ? 1 : 0;
    Bytes made = copies[current];
    change_id(std::span(made).subspan(header::kFileIdAt, header::kIdBytes), 1);
    change_id(std::span(made).subspan(header::kDataIdAt, header::kIdBytes), 2);
    std::vector<LayerWrite> writes;
    for (const std::size_t to : {1 - current, current}) {
      store_le64(made, header::kSequenceAt, le64(made, header::kSequenceAt) + 1);
      store_sum(made);
      writes.push_back({file_, kHeadersAt[to], made, true});
    }
    return writes;
  }

 private:
  SourcePtr file_;
  Range table_;
  std::uint64_t block_bytes_ = 0;
  std::uint64_t chunk_ = 1;
};

}  // namespace

std::shared_ptr<const BlockWriter> make_vhdx_writer(const SourcePtr& file) {
  return std::make_shared<VhdxWriter>(file);
}

}  // namespace lantern
