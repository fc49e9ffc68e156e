// QCOW and QED: a new cluster goes to the end of the file; then the entry that leads to it, in a
// new table where there is none, which then gets its own entry.
#include "base/store.h"
#include "container/write/block_writer.h"

namespace lantern {
namespace {

class TwoLevelWriter final : public BlockWriter {
 public:
  TwoLevelWriter(SourcePtr file, const TwoLevelShape& shape)
      : file_(std::move(file)), shape_(shape) {}

  Range unit_at(std::uint64_t disk_offset) const override {
    return {disk_offset / shape_.cluster_bytes * shape_.cluster_bytes, shape_.cluster_bytes};
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    const std::uint64_t cluster = unit.offset / shape_.cluster_bytes;
    const std::uint64_t level1_at = shape_.level1_offset + cluster / shape_.table_entries * 8;
    const std::uint64_t within = cluster % shape_.table_entries * 8;
    const Bytes held = read_exactly(*file_, level1_at, 8);
    const std::uint64_t table = shape_.big_endian ? be64(held, 0) : le64(held, 0);
    const std::uint64_t at = round_up(file_->size(), shape_.cluster_bytes);
    std::vector<LayerWrite> writes = {{file_, at, padded(content, shape_.cluster_bytes), false}};
    if (table != 0) {
      writes.push_back({file_, table + within, entry(at), true});
      return writes;
    }
    Bytes fresh(static_cast<std::size_t>(shape_.table_entries * 8));
    store_bytes(fresh, static_cast<std::size_t>(within), entry(at));
    const std::uint64_t fresh_at = at + shape_.cluster_bytes;
    writes.push_back({file_, fresh_at, std::move(fresh), false});
    writes.push_back({file_, level1_at, entry(fresh_at), true});
    return writes;
  }

 private:
  Bytes entry(std::uint64_t value) const {
    Bytes bytes(8);
    if (shape_.big_endian)
      store_be64(bytes, 0, value);
    else
      store_le64(bytes, 0, value);
    return bytes;
  }

  SourcePtr file_;
  TwoLevelShape shape_;
};

}  // namespace

std::shared_ptr<const BlockWriter> make_two_level_writer(const SourcePtr& file,
                                                         const TwoLevelShape& shape) {
  return std::make_shared<TwoLevelWriter>(file, shape);
}

}  // namespace lantern
