#include "filesystem/ext/volume.h"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "base/crc32c.h"
#include "base/store.h"

namespace lantern::ext {
namespace {

constexpr std::size_t kSumAt = 0x1E;
// Tables of groups behind the end of a cut volume may lie before it, with those of so many others.
constexpr std::uint64_t kFlexGroupsMost = 64;

// CRC-16 with the polynomial 0x8005, lowest bit first: what group checksums were before CRC-32C.
std::uint16_t crc16(std::uint16_t sum, ByteView bytes) {
  for (const std::byte byte : bytes) {
    sum = static_cast<std::uint16_t>(sum ^ std::to_integer<std::uint16_t>(byte));
    for (int bit = 0; bit < 8; ++bit)
      sum = static_cast<std::uint16_t>((sum >> 1) ^ ((sum & 1) != 0 ? 0xA001 : 0));
  }
  return sum;
}

bool sum_is_right(const Superblock& super, std::uint32_t number, ByteView descriptor) {
  const auto right = descriptor_sum(super, number, descriptor);
  return !right || *right == le16(descriptor, kSumAt);
}

Group parse_group(const Superblock& super, ByteView descriptor) {
  const bool wide = super.descriptor_bytes >= 64;
  const auto number = [&](std::size_t low, std::size_t high) {
    return le32(descriptor, low) | (wide ? std::uint64_t{le32(descriptor, high)} << 32 : 0);
  };
  Group group;
  group.block_bitmap = number(0, 0x20);
  group.inode_bitmap = number(4, 0x24);
  group.inode_table = number(8, 0x28);
  group.free_clusters =
      le16(descriptor, 0x0C) | (wide ? std::uint32_t{le16(descriptor, 0x2C)} << 16 : 0);
  // Without checksums these flags mean nothing.
  const bool flags = super.has(kMetadataSums) || super.has(kGroupSums);
  group.no_inodes = flags && (le16(descriptor, 0x12) & 1) != 0;
  group.no_bitmap = flags && (le16(descriptor, 0x12) & 2) != 0;
  if (flags)
    group.unused_inodes =
        le16(descriptor, 0x1C) | (wide ? std::uint32_t{le16(descriptor, 0x32)} << 16 : 0);
  if (group.no_inodes) group.unused_inodes = super.inodes_per_group;
  return group;
}

Inode inode_of(const LooseFolder& folder, const Superblock& super) {
  Inode inode;
  inode.number = folder.number;
  inode.mode = 0x41ED;  // a folder that all may read
  inode.links = 2;
  inode.flags = kInExtents;
  inode.size_bytes = folder.count * super.block_bytes;
  store_le16(inode.map, 0, 0xF30A);
  store_le16(inode.map, 2, 1);
  store_le16(inode.map, 4, 4);
  store_le16(inode.map, 16, folder.count);
  store_le16(inode.map, 18, folder.block >> 32);
  store_le32(inode.map, 20, folder.block);
  return inode;
}

// Which groups keep descriptors: the first, and some with copies. Of a meta group: which of the
// three groups of its own.
std::array<std::uint32_t, 4> holders_of_copies(const Superblock& super, bool own_place) {
  if (own_place) return {0, 1, 2, 2};
  if (super.has(kTwoCopies)) return {0, super.copy_groups[0], super.copy_groups[1], 0};
  if (super.has(kSparseCopies)) return {0, 1, 3, 5};
  return {0, 1, 2, 3};
}

}  // namespace

std::optional<std::uint16_t> descriptor_sum(const Superblock& super, std::uint32_t number,
                                            ByteView descriptor) {
  constexpr std::array<std::byte, 2> kZero{};
  std::array<std::byte, 4> own{};
  store_le32(own, 0, number);
  if (super.has(kMetadataSums)) {
    std::uint32_t sum = crc32c_chain(super.checksum_seed, own);
    sum = crc32c_chain(sum, descriptor.first(kSumAt));
    sum = crc32c_chain(sum, kZero);
    return static_cast<std::uint16_t>(crc32c_chain(sum, descriptor.subspan(kSumAt + 2)));
  }
  if (!super.has(kGroupSums)) return std::nullopt;
  std::uint16_t sum = crc16(0xFFFF, super.uuid);
  sum = crc16(sum, own);
  sum = crc16(sum, descriptor.first(kSumAt));
  return crc16(sum, descriptor.subspan(kSumAt + 2));
}

std::optional<std::uint64_t> descriptor_place(const Superblock& super, std::uint32_t number,
                                              std::uint32_t holder) {
  const std::uint32_t of_block = super.block_bytes / super.descriptor_bytes;
  const std::uint32_t table_block = number / of_block;
  const std::uint64_t within = std::uint64_t{number % of_block} * super.descriptor_bytes;
  if (!super.has(kMetaGroups) || table_block < super.first_meta_group) {
    const std::uint64_t first =
        (holder == 0 ? kSuperblockPlace / super.block_bytes : super.group_start(holder)) + 1;
    return (first + table_block) * super.block_bytes + within;
  }
  // A meta group keeps its own, in its first, second and last group.
  const std::uint32_t first = table_block * of_block;
  const std::uint32_t groups[] = {first, first + 1, first + of_block - 1};
  if (holder >= std::size(groups) || groups[holder] >= super.group_count()) return std::nullopt;
  const std::uint64_t start = groups[holder] == 0 ? kSuperblockPlace / super.block_bytes
                                                  : super.group_start(groups[holder]);
  const std::uint64_t block = start + (super.has_copy(groups[holder]) ? 1 : 0);
  return block * super.block_bytes + within;
}

std::optional<Group> Volume::group(std::uint32_t number) const {
  if (number >= super.group_count() || !loose_tables.empty()) return std::nullopt;
  const std::uint32_t of_block = super.block_bytes / super.descriptor_bytes;
  const bool own_place = super.has(kMetaGroups) && number / of_block >= super.first_meta_group;
  Bytes descriptor(super.descriptor_bytes);
  std::optional<std::uint64_t> first_place;
  for (const std::uint32_t holder : holders_of_copies(super, own_place)) {
    if (holder >= super.group_count()) continue;
    const auto place = descriptor_place(super, number, holder);
    if (!place) continue;
    if (!first_place) first_place = place;
    const ReadResult got = cached->read(*place, descriptor);
    if (got.length < descriptor.size() || !got.unreadable.empty()) continue;
    Group found = parse_group(super, descriptor);
    if (!sum_is_right(super, number, descriptor) || !valid_block(found.inode_table) ||
        !valid_block(found.inode_bitmap) || !valid_block(found.block_bitmap))
      continue;
    if (holder == 0) return found;
    context.report(FindingCode::ext_groups, Severity::damage,
                   {*first_place, super.descriptor_bytes},
                   fmt::format("the descriptor of group {} cannot be", number),
                   fmt::format("the copy at byte {} is used", *place));
    // The copies date from when the volume was made: what they say of use is old.
    found.no_inodes = found.no_bitmap = false;
    found.unused_inodes = 0;
    return found;
  }
  context.report(FindingCode::ext_groups, Severity::damage,
                 {first_place.value_or(0), super.descriptor_bytes},
                 fmt::format("the descriptor of group {} and its copies cannot be", number),
                 "the files of this group are treated as unreadable");
  return std::nullopt;
}

std::uint32_t Volume::groups_here() const {
  if (!loose_tables.empty()) return 0;
  const std::uint64_t of_group = std::uint64_t{super.blocks_per_group} * super.block_bytes;
  return static_cast<std::uint32_t>(
      std::min<std::uint64_t>(super.group_count(), there_bytes / of_group + kFlexGroupsMost));
}

std::optional<Range> Volume::inode_place(std::uint32_t number) const {
  if (!valid_inode(number)) return std::nullopt;
  if (!loose_tables.empty()) {
    auto table =
        std::upper_bound(loose_tables.begin(), loose_tables.end(), number,
                         [](std::uint64_t n, const InodeTable& part) { return n < part.first; });
    if (table == loose_tables.begin() || number >= (--table)->end()) return std::nullopt;
    return Range{table->offset + (number - table->first) * super.inode_bytes, super.inode_bytes};
  }
  const auto holder = group(group_of_inode(number));
  if (!holder) return std::nullopt;
  const std::uint64_t within =
      std::uint64_t{(number - 1) % super.inodes_per_group} * super.inode_bytes;
  return Range{block_place(holder->inode_table) + within, super.inode_bytes};
}

std::optional<Inode> Volume::inode(std::uint32_t number) const {
  const auto loose = std::lower_bound(
      loose_folders.begin(), loose_folders.end(), number,
      [](const LooseFolder& folder, std::uint32_t n) { return folder.number < n; });
  if (loose != loose_folders.end() && loose->number == number) return inode_of(*loose, super);
  const auto place = inode_place(number);
  if (!place) return std::nullopt;
  Bytes record(super.inode_bytes);
  const ReadResult got = cached->read(place->offset, record);
  if (got.length < record.size() || !got.unreadable.empty()) {
    context.report(FindingCode::ext_inode, Severity::damage, *place,
                   fmt::format("inode {} cannot be read", number), "its file is listed by name");
    return std::nullopt;
  }
  Inode inode = parse_inode(super, number, record);
  if (!inode.sum_is_right && !all_zero(record))
    context.report(FindingCode::ext_inode, Severity::warning, *place,
                   fmt::format("the checksum of inode {} is wrong", number), "it is read as it is");
  return inode;
}

bool Volume::read_block(std::uint64_t block, std::span<std::byte> out) const {
  if (!valid_block(block)) return false;
  const ReadResult got = cached->read(block_place(block), out);
  return got.length == out.size() && got.unreadable.empty();
}

void Bitmap::load(std::uint32_t group) {
  group_ = group;
  known_ = Known::all;
  const auto holder = volume_.group(group);
  if (!holder) return;
  const bool unwritten = of_ == Of::blocks ? holder->no_bitmap : holder->no_inodes;
  if (unwritten) {
    known_ = Known::none;
    return;
  }
  bits_.resize(volume_.super.block_bytes);
  if (volume_.read_block(of_ == Of::blocks ? holder->block_bitmap : holder->inode_bitmap, bits_))
    known_ = Known::bits;
}

bool Bitmap::in_use(std::uint64_t number) {
  const Superblock& super = volume_.super;
  if (of_ == Of::blocks ? !volume_.valid_block(number) : !volume_.valid_inode(number)) return true;
  const std::uint64_t index = of_ == Of::blocks ? number - super.first_data_block : number - 1;
  const std::uint32_t of_group =
      of_ == Of::blocks ? super.blocks_per_group : super.inodes_per_group;
  const auto group = static_cast<std::uint32_t>(index / of_group);
  if (group_ != group) load(group);
  if (known_ != Known::bits) return known_ == Known::all;
  const std::uint64_t bit = index % of_group / (of_ == Of::blocks ? super.cluster_blocks : 1);
  return (u8(bits_, static_cast<std::size_t>(bit / 8)) >> (bit % 8) & 1) != 0;
}

}  // namespace lantern::ext
