// VHD (layout: container/vhd/layout.h): a new block lies where the footer was. The footer goes
// behind it first, which makes the file longer; then the block; then the entry that leads to it.
#include "base/checked.h"
#include "base/store.h"
#include "container/vhd/layout.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace vhd;

class VhdWriter final : public BlockWriter {
 public:
  VhdWriter(SourcePtr file, std::uint64_t header_at)
      : file_(std::move(file)), header_at_(header_at) {
    block_bytes_ = be32(read_exactly(*file_, header_at_, kHeaderBytes), header::kBlockBytesAt);
    need_block(block_bytes_);
    bitmap_bytes_ = divide_up(divide_up(block_bytes_ / kSector, 8), kSector) * kSector;
  }

  Range unit_at(std::uint64_t disk_offset) const override {
    return {disk_offset / block_bytes_ * block_bytes_, block_bytes_};
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    const Bytes stored = read_exactly(*file_, header_at_, kHeaderBytes);
    const std::uint64_t entry_at =
        be64(stored, header::kTableOffsetAt) + unit.offset / block_bytes_ * 4;
    const std::uint32_t held = be32(read_exactly(*file_, entry_at, 4), 0);
    const Bytes bitmap(static_cast<std::size_t>(bitmap_bytes_), std::byte{0xFF});
    // A block of a differencing disk that has sectors of its own and others not.
    if (held != kNotStored)
      return {{file_, held * kSector + bitmap_bytes_, Bytes(content.begin(), content.end()), false},
              {file_, held * kSector, bitmap, true}};
    const std::uint64_t old_footer = file_->size() - std::min<std::uint64_t>(file_->size(), 512);
    const Bytes end = read_exactly(*file_, old_footer, kFooterBytes);
    if (!has_text(end, 0, footer::kMark) || old_footer % kSector != 0)
      throw Error(ErrorCode::cannot_write, {}, old_footer,
                  "vhd: the footer at the end of the file is lost", "repair the image first");
    const std::uint64_t block_bytes = bitmap_bytes_ + block_bytes_;
    if (old_footer / kSector >= kNotStored - block_bytes / kSector)
      throw Error(ErrorCode::unsupported, {}, old_footer, "vhd: the file cannot become larger",
                  {Do::image, " it as another kind"});
    Bytes block = bitmap;
    const Bytes data = padded(content, block_bytes_);
    block.insert(block.end(), data.begin(), data.end());
    Bytes entry(4);
    store_be32(entry, 0, old_footer / kSector);
    return {{file_, old_footer + block_bytes, end, false},
            {file_, old_footer, block, true},
            {file_, entry_at, entry, true}};
  }

 private:
  SourcePtr file_;
  std::uint64_t header_at_;
  std::uint64_t block_bytes_ = 0;
  std::uint64_t bitmap_bytes_ = 0;
};

}  // namespace

std::shared_ptr<const BlockWriter> make_vhd_writer(const SourcePtr& file, std::uint64_t header_at) {
  return std::make_shared<VhdWriter>(file, header_at);
}

}  // namespace lantern
