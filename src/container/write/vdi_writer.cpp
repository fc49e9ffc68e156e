// VDI (layout: container/vdi/layout.h): a new block goes behind the last; the count of blocks
// first, then the entry that leads to it.
#include "base/store.h"
#include "container/vdi/layout.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace vdi;

class VdiWriter final : public BlockWriter {
 public:
  explicit VdiWriter(SourcePtr file) : file_(std::move(file)) {
    block_bytes_ = le32(read_exactly(*file_, 0, kHeaderBytes), 0x178);
    need_block(block_bytes_);
  }

  Range unit_at(std::uint64_t disk_offset) const override {
    return {disk_offset / block_bytes_ * block_bytes_, block_bytes_};
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    const Bytes header = read_exactly(*file_, 0, kHeaderBytes);
    const std::uint64_t map_at = le32(header, kMapOffsetAt);
    const std::uint64_t extra = le32(header, kExtraBytesAt);
    if (!behind_)
      behind_ =
          number_behind(read_exactly(*file_, map_at, le32(header, kBlockCountAt) * kMapEntryBytes));
    const std::uint64_t next = std::max<std::uint64_t>(le32(header, kBlocksStoredAt), *behind_);
    behind_ = next + 1;
    if (next >= kDiscarded)
      throw Error(ErrorCode::unsupported, {}, kBlocksStoredAt,
                  "the image has no number left for a block", {Do::image, " it as another kind"});
    const std::uint64_t at = le32(header, kDataOffsetAt) + next * (block_bytes_ + extra) + extra;
    Bytes count(4), entry(4);
    store_le32(count, 0, next + 1);
    store_le32(entry, 0, next);
    return {{file_, at, padded(content, block_bytes_), false},
            {file_, kBlocksStoredAt, count, true},
            {file_, map_at + unit.offset / block_bytes_ * kMapEntryBytes, entry, true}};
  }

 private:
  // The number behind the highest a block has.
  static std::uint64_t number_behind(ByteView map) {
    std::uint64_t next = 0;
    for (std::size_t at = 0; at < map.size(); at += kMapEntryBytes)
      if (const std::uint32_t number = le32(map, at); number < kDiscarded)
        next = std::max<std::uint64_t>(next, std::uint64_t{number} + 1);
    return next;
  }

  SourcePtr file_;
  std::uint64_t block_bytes_ = 0;
  // Of the map, which is read once: no other writes to the file meanwhile.
  mutable std::optional<std::uint64_t> behind_;
};

}  // namespace

std::shared_ptr<const BlockWriter> make_vdi_writer(const SourcePtr& file) {
  return std::make_shared<VdiWriter>(file);
}

}  // namespace lantern
