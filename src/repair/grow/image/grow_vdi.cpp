// VDI (layout: container/vdi/layout.h): entries of the block map; where it has no room for them
// the blocks right behind it are moved to the end of the file, as many as make room.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/vdi/layout.h"
#include "repair/grow/image/image_step.h"

namespace lantern::repair {
namespace {

using namespace vdi;

constexpr std::uint64_t kMaxMap = 64u << 20;  // bytes

class VdiGrowth {
 public:
  explicit VdiGrowth(ImageStep& image) : image_(image), before_(image.read(0, kHeaderBytes)) {}

  void run() {
    const std::uint32_t kind = le32(before_, kKindAt);
    if (kind != kDynamic && kind != kFixed) image_.not_yet();
    block_ = le32(before_, kBlockBytesAt);
    slot_ = block_ + le32(before_, kExtraBytesAt);
    data_ = le32(before_, kDataOffsetAt);
    const std::uint64_t map_at = le32(before_, kMapOffsetAt);
    if (block_ == 0) image_.not_yet();
    const std::uint64_t had = le32(before_, kBlockCountAt);
    const std::uint64_t count = std::max(had, divide_up(image_.to, block_));
    if (count * kMapEntryBytes > kMaxMap || map_at + had * kMapEntryBytes > data_)
      image_.refuse("its block map would be too large",
                    "make a copy with lantern image as qcow2, and grow that");
    const Bytes map = image_.read(map_at, static_cast<std::size_t>(had * kMapEntryBytes));
    slots_ = le32(before_, kBlocksStoredAt);
    for (std::uint64_t i = 0; i < had; ++i)
      if (const std::uint32_t slot = entry(map, i); slot < kDiscarded)
        slots_ = std::max(slots_, slot + std::uint64_t{1});
    if (image_.file.size() < data_ + saturating_mul(slots_, slot_) || map.size() < had * 4)
      image_.refuse("its last blocks are missing", "look at it with lantern survey");
    const std::uint64_t end = map_at + count * kMapEntryBytes;
    const std::uint64_t moved = end > data_ ? divide_up(end - data_, slot_) : 0;
    // Where the data begin is a figure of 32 bits.
    if (saturating_mul(moved, slot_) > 0xFFFFFFFF - data_ ||
        saturating_mul(std::min(moved, slots_), slot_) > kMaxMap)
      image_.refuse("too much would have to be moved for a larger block map",
                    "make a copy with lantern image as qcow2, and grow that");
    Bytes larger = map;
    larger.resize(static_cast<std::size_t>(count * kMapEntryBytes), std::byte{0xFF});
    Bytes after = before_;
    image_.step.evidence = "its block map has room for the entries that are added";
    if (moved > 0) {
      move_first(moved, larger, had);
      store_le32(after, kDataOffsetAt, data_ + moved * slot_);
      image_.step.evidence = fmt::format(
          "{} moved to the end of the file, which makes room for the block map",
          moved == 1 ? "its first block is" : fmt::format("its first {} blocks are", moved));
    }
    if (kind == kFixed) {
      for (std::uint64_t i = had; i < count; ++i)
        store_le32(larger, static_cast<std::size_t>(i * kMapEntryBytes), slots_ + i - had);
      image_.reach(data_ + moved * slot_ + (slots_ + count - had) * slot_);
      store_le32(after, kBlocksStoredAt, slots_ + count - had);
    }
    Bytes now = image_.read(map_at, larger.size());
    store_le64(after, kDiskBytesAt, image_.to);
    store_le32(after, kBlockCountAt, count);
    image_.change(map_at, now, larger);
    image_.change(0, before_, after);
  }

 private:
  static std::uint32_t entry(ByteView map, std::uint64_t block) {
    return le32(map, static_cast<std::size_t>(block * kMapEntryBytes));
  }

  // The first `count` slots go behind the last one: the data begin at what followed them.
  void move_first(std::uint64_t count, Bytes& map, std::uint64_t entries) {
    const std::uint64_t moved = std::min(count, slots_);
    const std::uint64_t to = std::max(count, slots_);  // as slots are counted now
    for (std::uint64_t i = 0; i < moved; ++i)
      image_.write(data_ + (to + i) * slot_,
                   image_.read(data_ + i * slot_, static_cast<std::size_t>(slot_)));
    for (std::uint64_t i = 0; i < entries; ++i)
      if (const std::uint32_t slot = entry(map, i); slot < kDiscarded)
        store_le32(map, static_cast<std::size_t>(i * kMapEntryBytes),
                   (slot < moved ? to + slot : slot) - count);
    if (moved == 0) image_.reach(data_ + count * slot_);
  }

  ImageStep& image_;
  Bytes before_;
  std::uint64_t block_ = 0, slot_ = 0, data_ = 0;  // bytes
  std::uint64_t slots_ = 0;                        // that are stored, one behind the other
};

}  // namespace

void grow_vdi(ImageStep& image) {
  VdiGrowth(image).run();
}

}  // namespace lantern::repair
