// The hard-disk format (layout: container/hdd/hard_disk.h): a new cluster goes to the end of the
// file, then the entry that leads to it.
#include "base/store.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::size_t kHeaderBytes = 64;

class HardDiskWriter final : public BlockWriter {
 public:
  explicit HardDiskWriter(SourcePtr file) : file_(std::move(file)) {
    const Bytes header = read_exactly(*file_, 0, kHeaderBytes);
    cluster_bytes_ = le32(header, 0x1C) * kSector;
    need_block(cluster_bytes_);
    unit_bytes_ = has_text(header, 0, "WithouFreSpacExt") ? cluster_bytes_ : kSector;
    data_from_ = le32(header, 0x30) * kSector;
  }

  Range unit_at(std::uint64_t disk_offset) const override {
    return {disk_offset / cluster_bytes_ * cluster_bytes_, cluster_bytes_};
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    // Clusters lie on one grid, from where the data begins.
    const std::uint64_t grid = unit_bytes_ == kSector ? data_from_ % cluster_bytes_ : 0;
    const std::uint64_t end = std::max(file_->size(), data_from_);
    const std::uint64_t at = round_up(end - std::min(end, grid), cluster_bytes_) + grid;
    if (at / unit_bytes_ > 0xFFFFFFFF)
      throw Error(ErrorCode::unsupported, {}, at, "hdd: the file cannot become larger",
                  {Do::image, " it as another kind"});
    Bytes entry(4);
    store_le32(entry, 0, at / unit_bytes_);
    return {{file_, at, padded(content, cluster_bytes_), false},
            {file_, kHeaderBytes + unit.offset / cluster_bytes_ * 4, entry, true}};
  }

 private:
  SourcePtr file_;
  std::uint64_t cluster_bytes_ = 0;
  std::uint64_t unit_bytes_ = 0;
  std::uint64_t data_from_ = 0;
};

}  // namespace

std::shared_ptr<const BlockWriter> make_hard_disk_writer(const SourcePtr& file) {
  return std::make_shared<HardDiskWriter>(file);
}

}  // namespace lantern
