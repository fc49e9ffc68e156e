#include "filesystem/ext/inode.h"
#include "filesystem/unix_mode.h"

#include "base/crc32c.h"
#include "base/store.h"

namespace lantern::ext {
namespace {

constexpr std::size_t kSmallRecord = 128;
constexpr std::uint64_t kSecond = 1'000'000'000;

std::optional<Timestamp> time_of(ByteView record, std::size_t at, std::size_t extra_at,
                                 std::size_t used) {
  Timestamp time;
  time.seconds = static_cast<std::int32_t>(le32(record, at));
  time.resolution_ns = kSecond;
  if (extra_at + 4 <= used) {
    const std::uint32_t extra = le32(record, extra_at);
    time.seconds += static_cast<std::int64_t>(extra & 3) << 32;
    time.nanoseconds = extra >> 2;
    time.resolution_ns = 1;
    if (time.nanoseconds >= kSecond) time.nanoseconds = 0;
  }
  return time;
}

}  // namespace

std::uint32_t checksum_seed(const Superblock& super, std::uint32_t number,
                            std::uint32_t generation) {
  std::array<std::byte, 8> bytes{};
  store_le32(bytes, 0, number);
  store_le32(bytes, 4, generation);
  return crc32c_chain(super.checksum_seed, bytes);
}

bool looks_like_inode(ByteView record) {
  constexpr std::uint16_t kMaxDepth = 5, kRoom = 4;
  constexpr std::uint64_t kMaxSize = std::uint64_t{1} << 44, kMaxSlack = 128u << 10;
  const std::uint16_t mode = le16(record, 0);
  const std::uint32_t flags = le32(record, 0x20);
  if (!kind_of_mode(mode) || le16(record, 0x1A) == 0 || le32(record, 0x14) != 0) return false;
  if ((flags & kInExtents) != 0)
    return le16(record, 0x28) == 0xF30A && le16(record, 0x2C) == kRoom &&
           le16(record, 0x2A) <= kRoom && le16(record, 0x2E) <= kMaxDepth;
  const std::uint64_t size = le32(record, 4) | std::uint64_t{le32(record, 0x6C)} << 32;
  const std::uint64_t held = std::uint64_t{le32(record, 0x1C)} * kSector;
  const bool folder = (mode & 0xF000) == 0x4000, file = (mode & 0xF000) == 0x8000;
  // A map of blocks: those that are counted hold what its length says, and those that map them.
  return (folder || file) && le32(record, 0x0C) != 0 && size > 0 && size <= kMaxSize &&
         held >= size && held % 1024 == 0 && held - size <= kMaxSlack + size / 64 &&
         le32(record, 0x28) != 0;
}

std::optional<EntryKind> Inode::kind() const {
  return kind_of_mode(mode);
}

bool Inode::has_content() const {
  if (has(kInline)) return size_bytes > 0;
  if (has(kInExtents)) return le16(map, 0) == 0xF30A && le16(map, 2) > 0;
  return !all_zero(map);
}

Inode parse_inode(const Superblock& super, std::uint32_t number, ByteView record) {
  Inode inode;
  inode.number = number;
  inode.mode = le16(record, 0);
  inode.user = le16(record, 2) | std::uint32_t{le16(record, 0x78)} << 16;
  inode.group = le16(record, 0x18) | std::uint32_t{le16(record, 0x7A)} << 16;
  inode.size_bytes = le32(record, 4) | std::uint64_t{le32(record, 0x6C)} << 32;
  inode.deleted = le32(record, 0x14);
  inode.links = le16(record, 0x1A);
  inode.sectors = le32(record, 0x1C);
  inode.flags = le32(record, 0x20);
  inode.generation = le32(record, 0x64);
  inode.attribute_block = le32(record, 0x68) | std::uint64_t{le16(record, 0x76)} << 32;
  std::copy_n(record.begin() + 0x28, inode.map.size(), inode.map.begin());
  std::size_t used = kSmallRecord;
  if (record.size() > kSmallRecord)
    used = std::min<std::size_t>(kSmallRecord + le16(record, 0x80), record.size());
  inode.accessed = time_of(record, 0x08, 0x8C, used);
  inode.changed = time_of(record, 0x0C, 0x84, used);
  inode.modified = time_of(record, 0x10, 0x88, used);
  if (used >= 0x98) inode.created = time_of(record, 0x90, 0x94, used);
  if (super.has(kMetadataSums)) {
    constexpr std::array<std::byte, 2> kZero{};
    std::uint32_t sum = checksum_seed(super, number, inode.generation);
    sum = crc32c_chain(sum, record.first(0x7C));
    sum = crc32c_chain(sum, kZero);
    sum = crc32c_chain(sum, slice(record, 0x7E, 2));
    std::uint32_t said = le16(record, 0x7C);
    if (record.size() > kSmallRecord) {
      const bool wide = used >= 0x84;
      sum = crc32c_chain(sum, slice(record, 0x80, 2));
      sum = crc32c_chain(sum, wide ? ByteView(kZero) : slice(record, 0x82, 2));
      sum = crc32c_chain(sum, record.subspan(0x84));
      if (wide)
        said |= std::uint32_t{le16(record, 0x82)} << 16;
      else
        sum &= 0xFFFF;
    } else {
      sum &= 0xFFFF;
    }
    inode.sum_is_right = sum == said;
  }
  return inode;
}

}  // namespace lantern::ext
