// Sparse extents of VMDK that are not packed (layout: container/vmdk/sparse.h): a new grain goes to
// the end of the file; then its entry in both tables, which are made where a directory has none.
#include "base/store.h"
#include "container/vmdk/layout.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace vmdk;

class VmdkWriter final : public BlockWriter {
 public:
  explicit VmdkWriter(SourcePtr file) : file_(std::move(file)) {
    const Bytes header = read_exactly(*file_, 0, kSector);
    server_ = has_text(header, 0, server::kMark);
    if (server_) {
      grain_bytes_ = le32(header, server::kGrainAt) * kSector;
      directories_ = {le32(header, server::kDirectoryAt)};
      table_entries_ = server::kTableEntries;
    } else {
      grain_bytes_ = le64(header, kGrainAt) * kSector;
      directories_ = {le64(header, kDirectoryAt)};
      if ((le32(header, kFlagsAt) & kSecondDirectory) != 0 &&
          le64(header, kSecondDirectoryAt) != 0 &&
          le64(header, kSecondDirectoryAt) != directories_[0])
        directories_.push_back(le64(header, kSecondDirectoryAt));
      table_entries_ = le32(header, kTableEntriesAt);
    }
    need_block(grain_bytes_);
    need_block(table_entries_);
  }

  Range unit_at(std::uint64_t disk_offset) const override {
    return {disk_offset / grain_bytes_ * grain_bytes_, grain_bytes_};
  }

  std::vector<LayerWrite> place(Range unit, ByteView content) const override {
    const std::uint64_t grain = unit.offset / grain_bytes_;
    const std::uint64_t at = round_up(file_->size(), server_ ? kSector : grain_bytes_);
    std::uint64_t end = at + grain_bytes_;
    std::vector<LayerWrite> writes = {{file_, at, padded(content, grain_bytes_), false}};
    std::vector<LayerWrite> entries;
    // The first directory's entry comes first: where it leads to a grain no reader asks the second.
    for (const std::uint64_t directory : directories_) {
      const std::uint64_t entry_at = directory * kSector + grain / table_entries_ * 4;
      const std::uint64_t within = grain % table_entries_ * 4;
      const std::uint64_t table = le32(read_exactly(*file_, entry_at, 4), 0);
      if (table != 0) {
        entries.push_back({file_, table * kSector + within, sector(at), true});
        continue;
      }
      Bytes fresh(static_cast<std::size_t>(round_up(table_entries_ * 4, kSector)));
      store_bytes(fresh, static_cast<std::size_t>(within), sector(at));
      entries.push_back({file_, entry_at, sector(end), true});
      const std::uint64_t table_at = end;
      end += fresh.size();
      writes.push_back({file_, table_at, std::move(fresh), false});
    }
    if (server_) writes.push_back({file_, server::kFileSectorsAt, sector(end), false});
    writes.insert(writes.end(), entries.begin(), entries.end());
    return writes;
  }

 private:
  static Bytes sector(std::uint64_t byte) {
    if (byte / kSector > 0xFFFFFFFF)
      throw Error(ErrorCode::unsupported, {}, byte, "vmdk: the file cannot become larger",
                  {Do::image, " it as another kind"});
    Bytes bytes(4);
    store_le32(bytes, 0, byte / kSector);
    return bytes;
  }

  SourcePtr file_;
  bool server_ = false;
  std::uint64_t grain_bytes_ = 0;
  std::uint64_t table_entries_ = 0;
  std::vector<std::uint64_t> directories_;  // sectors, the first counts
};

}  // namespace

std::shared_ptr<const BlockWriter> make_vmdk_writer(const SourcePtr& file) {
  return std::make_shared<VmdkWriter>(file);
}

}  // namespace lantern
