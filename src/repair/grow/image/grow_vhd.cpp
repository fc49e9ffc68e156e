// VHD (layout: container/vhd/layout.h): of a fixed one the footer goes to the new end; of a dynamic
// one the block table gets entries, at the end of the file where it has no room for them.
#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/vhd/layout.h"
#include "repair/grow/image/image_step.h"

namespace lantern::repair {
namespace {

using namespace vhd;

class VhdGrowth {
 public:
  explicit VhdGrowth(ImageStep& image)
      : image_(image),
        end_(image.file.size() - std::min<std::uint64_t>(image.file.size(), kFooterBytes)),
        footer_(image.read(end_, kFooterBytes)) {}

  void run() {
    if (!is_summed(footer_, footer::kMark, footer::kSumAt)) damaged();
    image_.to = of_every_reader(image_.to);
    image_.need_at_most(kMaxDisk);
    larger_ = footer_;
    store_be64(larger_, footer::kDiskBytesAt, image_.to);
    store_be32(larger_, footer::kGeometryAt, geometry(image_.to));
    store_be32(larger_, footer::kSumAt, checksum(larger_, footer::kSumAt));
    const std::uint32_t kind = be32(footer_, footer::kKindAt);
    if (kind == kFixed)
      fixed();
    else if (kind == kDynamic)
      dynamic();
    else
      image_.not_yet();
  }

 private:
  [[noreturn]] void damaged() const {
    image_.refuse("its own tables are damaged", "repair it first");
  }

  // Of what some programs made, others take the rounded geometry for the size: such a disk gets a
  // size that the geometry says exactly. The largest geometry counts for none.
  std::uint64_t of_every_reader(std::uint64_t bytes) const {
    constexpr std::string_view kBySize[] = {"win ", "qem2", "d2v ", "CTXS", {"tap\0", 4}};
    constexpr std::uint64_t kLargest = 65535ull * 16 * 255;
    for (const std::string_view maker : kBySize)
      if (has_text(footer_, footer::kMakerAt, maker)) return bytes;
    for (std::uint64_t sectors = divide_up(bytes, kSector); sectors < kLargest; ++sectors) {
      const std::uint64_t shape = geometry(sectors * kSector);
      const std::uint64_t said = (shape >> 16) * (shape >> 8 & 0xFF) * (shape & 0xFF);
      if (said * kSector >= bytes) return said * kSector;
    }
    return bytes;
  }

  void fixed() {
    image_.step.evidence = "a fixed disk lies in the file as it is, its footer behind it";
    image_.write(image_.to, larger_);
    image_.change(end_, footer_, Bytes(kFooterBytes));
  }

  void dynamic() {
    const std::uint64_t header_at = be64(footer_, footer::kHeaderOffsetAt);
    const Bytes head = image_.read(header_at, kHeaderBytes);
    if (!is_summed(head, header::kMark, header::kSumAt)) damaged();
    const std::uint64_t block = be32(head, header::kBlockBytesAt);
    const std::uint64_t table = be64(head, header::kTableOffsetAt);
    const std::uint64_t had = be32(head, header::kEntryCountAt);
    if (block < kSector || table > end_ || had * 4 > end_ - table) damaged();
    const std::uint64_t count = divide_up(image_.to, block);
    constexpr std::uint64_t kMaxEntries = 16u << 20;
    if (std::max(had, count) > kMaxEntries)
      image_.refuse("its block table would be too large",
                    "make a copy with lantern image as qcow2, and grow that");
    const Bytes entries = image_.read(table, static_cast<std::size_t>(had * 4));
    std::uint64_t next = header_at > table ? header_at : end_;
    for (std::uint64_t i = 0; i < had; ++i) {
      const std::uint32_t sector = be32(entries, static_cast<std::size_t>(i * 4));
      if (sector == kNotStored) continue;
      if (sector * kSector > table) next = std::min(next, sector * kSector);
      if (i * block >= image_.disk.bytes->size()) damaged();
    }
    Bytes changed = head;
    image_.step.evidence = "its block table has room for the entries that are added";
    std::uint64_t footer_at = end_;
    if (count > had) {
      store_be32(changed, header::kEntryCountAt, count);
      if (table + count * 4 <= next) {
        image_.add_entries(table, had, count, 4, std::byte{0xFF});
      } else {
        Bytes moved = entries;
        moved.resize(static_cast<std::size_t>(divide_up(count * 4, kSector) * kSector),
                     std::byte{0xFF});
        footer_at = end_ + moved.size();
        image_.write(end_, std::move(moved));
        store_be64(changed, header::kTableOffsetAt, end_);
        image_.step.evidence = "its block table, which has no room, goes to the end of the file";
      }
      store_be32(changed, header::kSumAt, checksum(changed, header::kSumAt));
    }
    image_.write(footer_at, larger_);
    image_.change(header_at, head, changed);
    image_.change(0, image_.read(0, kFooterBytes), larger_);
  }

  ImageStep& image_;
  std::uint64_t end_;  // of all but the footer
  Bytes footer_, larger_;
};

}  // namespace

void grow_vhd(ImageStep& image) {
  VhdGrowth(image).run();
}

}  // namespace lantern::repair
