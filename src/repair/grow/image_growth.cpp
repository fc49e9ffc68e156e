#include "repair/grow/image_growth.h"

#include <fmt/format.h>

#include <filesystem>

#include "base/checked.h"
#include "base/store.h"
#include "container/qcow/layout.h"
#include "container/vdi/layout.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

class ImageGrowth {
 public:
  ImageGrowth(const DiskLayer& disk, std::uint64_t to)
      : disk_(disk), file_(*disk.file), to_(to), address_(disk.address.print() + "::bytes") {}

  RepairStep run() {
    step_.code = "grow.image";
    step_.what = fmt::format("the disk becomes {} instead of {}", human_size(to_),
                             human_size(disk_.bytes->size()));
    const Container& container = disk_.container;
    if (!container.versions.empty())
      refuse("the image has snapshots, which are as large as the disk was",
             "make a copy that has none: lantern image writes one");
    if (container.files.size() > 1) not_yet();
    if (container.format == "raw")
      raw();
    else if (container.format == "qcow2")
      of_qcow2();
    else if (container.format == "vdi")
      of_vdi();
    else
      not_yet();
    return std::move(step_);
  }

 private:
  [[noreturn]] void refuse(const std::string& what, const std::string& next) const {
    throw Error(ErrorCode::refused, disk_.address.print(), std::nullopt, what, next);
  }
  [[noreturn]] void not_yet() const {
    throw Error(
        ErrorCode::unsupported, disk_.address.print(), std::nullopt,
        fmt::format("an image of this kind ({}{}{}) is not made larger yet", disk_.container.format,
                    disk_.container.variant.empty() ? "" : ", ", disk_.container.variant),
        {"make a copy of another kind with ", Do::image_as_qcow2, ", and grow that"});
  }

  void change(std::uint64_t at, const Bytes& before, const Bytes& after) {
    add_changes(step_, address_, at, before, after);
  }

  void raw() {
    std::error_code error;
    if (!disk_.address.steps.empty() ||
        !std::filesystem::is_regular_file(disk_.address.first, error))
      refuse("is no image file of its own: its size is not to be changed here",
             "leave the size out, and the volume takes the room behind it");
    step_.evidence = "a raw image is as long as its disk; what is added is a hole";
    step_.writes.push_back({address_, to_ - 1, {}, Bytes(1)});
  }

  void of_qcow2() {
    const Bytes before = read_bytes(file_, 0, qcow::kVersion2Bytes);
    const std::uint32_t bits = be32(before, qcow::kClusterBitsAt);
    if (bits < qcow::kMinClusterBits || bits > qcow::kMaxClusterBits) not_yet();
    // Of an entry of the first table.
    const std::uint64_t cluster = std::uint64_t{1} << bits;
    const std::uint64_t reach = cluster * (cluster / level2_bytes(before));
    const std::uint64_t needed = divide_up(to_, reach), had = be32(before, qcow::kLevel1EntriesAt);
    const std::uint64_t room =
        divide_up(had * qcow::kEntryBytes, cluster) * (cluster / qcow::kEntryBytes);
    if (needed > room)
      refuse(fmt::format("the image's first table has room for a disk of {}",
                         human_size(room * reach)),
             "make a copy with larger clusters");
    Bytes after = before;
    store_be64(after, qcow::kDiskBytesAt, to_);
    if (needed > had) {
      const std::uint64_t table = be64(before, qcow::kLevel1OffsetAt);
      const auto length = static_cast<std::size_t>((needed - had) * qcow::kEntryBytes);
      const Bytes now = read_bytes(file_, table + had * qcow::kEntryBytes, length);
      change(table + had * qcow::kEntryBytes, now, Bytes(length));
      store_be32(after, qcow::kLevel1EntriesAt, needed);
    }
    step_.evidence = "its first table has room for the entries that are added";
    change(0, before, after);
  }

  // Of an entry of a second table.
  std::uint64_t level2_bytes(ByteView header) const {
    constexpr std::uint64_t kElsewhere = 4, kWide = 16;  // data in a file of their own; two words
    if (be32(header, qcow::kVersionAt) < 3) return qcow::kEntryBytes;
    const std::uint64_t features = be64(read_bytes(file_, qcow::kFeaturesAt, 8), 0);
    if ((features & kElsewhere) != 0) not_yet();
    return (features & kWide) != 0 ? 2 * qcow::kEntryBytes : qcow::kEntryBytes;
  }

  void of_vdi() {
    const Bytes before = read_bytes(file_, 0, vdi::kHeaderBytes);
    const std::uint64_t block = le32(before, vdi::kBlockBytesAt);
    const std::uint64_t count = divide_up(to_, block), had = le32(before, vdi::kBlockCountAt);
    if (le32(before, vdi::kKindAt) != vdi::kDynamic) not_yet();
    const std::uint64_t map = le32(before, vdi::kMapOffsetAt);
    const std::uint64_t data = le32(before, vdi::kDataOffsetAt);
    const std::uint64_t room = data < map ? 0 : (data - map) / vdi::kMapEntryBytes;
    if (count > room)
      refuse(
          fmt::format("the image's block map has room for a disk of {}", human_size(room * block)),
          "grow it to that size at most, or make a copy with lantern image, and grow that");
    Bytes after = before;
    store_le64(after, vdi::kDiskBytesAt, to_);
    store_le32(after, vdi::kBlockCountAt, count);
    if (count > had) {
      const auto length = static_cast<std::size_t>((count - had) * vdi::kMapEntryBytes);
      const std::uint64_t at = map + had * vdi::kMapEntryBytes;
      change(at, read_bytes(file_, at, length), Bytes(length, std::byte{0xFF}));
    }
    step_.evidence = "its block map has room before the first block for the entries that are added";
    change(0, before, after);
  }

  const DiskLayer& disk_;
  const ByteSource& file_;
  std::uint64_t to_;
  std::string address_;
  RepairStep step_;
};

}  // namespace

RepairStep grow_image(const DiskLayer& disk, std::uint64_t to_bytes) {
  return ImageGrowth(disk, to_bytes).run();
}

}  // namespace lantern::repair
