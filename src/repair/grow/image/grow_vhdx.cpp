// VHDX (layout: container/vhdx/layout.h): the size, and entries of the block table; where its
// region has no room for them the table goes to the end of the file. The blocks of a fixed one
// follow there.
#include <algorithm>

#include "base/checked.h"
#include "base/guid.h"
#include "base/store.h"
#include "container/vhdx/header.h"
#include "container/vhdx/layout.h"
#include "repair/grow/image/image_step.h"

namespace lantern::repair {
namespace {

using namespace vhdx;

constexpr std::uint64_t kMiB = 1u << 20;
constexpr std::uint64_t kMaxDisk = 64ull << 40;
constexpr std::uint64_t kMaxTable = 256u << 20;  // bytes

class VhdxGrowth {
 public:
  VhdxGrowth(ImageStep& image, const Context& context)
      : image_(image),
        regions_(read_vhdx_regions(image.file, context)),
        metadata_(read_vhdx_metadata(image.file, regions_.metadata, context)) {
    const auto header = read_vhdx_header(image.file, &context);
    if (!header) damaged();
    const auto is_set = [](std::byte b) { return b != std::byte{0}; };
    if (std::any_of(header->log_id.begin(), header->log_id.end(), is_set))
      image.refuse("its log has writes that are to be made yet",
                   "start its machine once and shut it down, or grow a copy (lantern image)");
  }

  void run() {
    const std::uint64_t block = metadata_.block_bytes, sector = metadata_.sector_bytes;
    if (metadata_.has_parent || block == 0 || sector == 0) image_.not_yet();
    image_.to = divide_up(image_.to, sector) * sector;
    image_.need_at_most(kMaxDisk);
    chunk_ = kChunkSectors * sector / block;
    if (chunk_ == 0) damaged();
    const std::uint64_t had = divide_up(image_.disk.bytes->size(), block);
    const std::uint64_t count = divide_up(image_.to, block);
    const std::uint64_t had_bytes = entries_of(had) * kEntryBytes;
    const std::uint64_t bytes = entries_of(count) * kEntryBytes;
    if (had_bytes > regions_.table.length) damaged();
    if (std::max(bytes, regions_.table.length) > kMaxTable)
      image_.refuse("its block table would be too large",
                    "make a copy with lantern image as qcow2, and grow that");
    Range table = regions_.table;
    std::uint64_t end = divide_up(image_.file.size(), kMiB) * kMiB;
    image_.step.evidence = "its block table has room for the entries that are added";
    if (bytes > table.length) {
      table = {end, divide_up(bytes, kMiB) * kMiB};
      end = table.end();
      image_.step.evidence = "its block table, which has no room, goes to the end of the file";
    }
    const bool moved = table.offset != regions_.table.offset;
    Bytes added(static_cast<std::size_t>(bytes - had_bytes));
    if (metadata_.fixed)
      for (std::uint64_t i = had; i < count; ++i)
        store_le64(added, static_cast<std::size_t>((i + i / chunk_) * kEntryBytes - had_bytes),
                   (end + (i - had) * block) | kPresent);
    if (moved) {
      Bytes whole = image_.read(regions_.table.offset, static_cast<std::size_t>(had_bytes));
      whole.insert(whole.end(), added.begin(), added.end());
      image_.write(table.offset, std::move(whole));
    }
    image_.reach(metadata_.fixed ? end + (count - had) * block : end);
    // What is left of the old table would look like a block that no entry leads to.
    if (moved) {
      lead_to(table);
      const auto old = static_cast<std::size_t>(regions_.table.length);
      image_.change(regions_.table.offset, image_.read(regions_.table.offset, old), Bytes(old));
    } else {
      image_.change(table.offset + had_bytes, image_.read(table.offset + had_bytes, added.size()),
                    added);
    }
    store_size();
  }

 private:
  [[noreturn]] void damaged() const {
    image_.refuse("its own tables are damaged", "repair it first");
  }

  // Behind the blocks of each chunk is an entry of its bitmap.
  std::uint64_t entries_of(std::uint64_t blocks) const {
    return blocks == 0 ? 0 : blocks + (blocks - 1) / chunk_;
  }

  void lead_to(Range table) {
    for (const std::uint64_t at : kRegionsAt) {
      const Bytes before = image_.read(at, kRegionBytes);
      if (!is_summed(before, kRegionBytes, regions::kMark)) damaged();
      const std::size_t entry =
          entry_of(before, regions::kFirst, regions::kEntryBytes,
                   std::min<std::size_t>(le32(before, regions::kCountAt), regions::kMaxCount),
                   regions::kTableId);
      Bytes after = before;
      store_le64(after, entry + regions::kOffsetAt, table.offset);
      store_le32(after, entry + regions::kLengthAt, table.length);
      store_sum(after);
      image_.change(at, before, after);
    }
  }

  void store_size() {
    const Bytes items = image_.read(regions_.metadata.offset, metadata::kTableBytes);
    const std::size_t entry = entry_of(items, metadata::kFirst, metadata::kEntryBytes,
                                       le16(items, metadata::kCountAt), metadata::kDiskSize);
    const std::uint64_t at = regions_.metadata.offset + le32(items, entry + metadata::kOffsetAt);
    const Bytes before = image_.read(at, 8);
    if (before.size() != 8 || le64(before, 0) != image_.disk.bytes->size()) damaged();
    Bytes after = before;
    store_le64(after, 0, image_.to);
    image_.change(at, before, after);
  }

  // Of the item with this id, in a table that is there.
  std::size_t entry_of(ByteView table, std::size_t first, std::size_t bytes, std::size_t count,
                       std::string_view id) const {
    for (std::size_t i = 0; i < count && first + (i + 1) * bytes <= table.size(); ++i)
      if (guid_text(table, first + i * bytes) == id) return first + i * bytes;
    damaged();
  }

  ImageStep& image_;
  VhdxRegions regions_;
  VhdxMetadata metadata_;
  std::uint64_t chunk_ = 0;
};

}  // namespace

void grow_vhdx(ImageStep& image, const Context& context) {
  VhdxGrowth(image, context).run();
}

}  // namespace lantern::repair
