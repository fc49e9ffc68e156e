#include "repair/grow/ext_growth.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/ext/inode.h"
#include "filesystem/ext/journal.h"
#include "filesystem/ext/superblock.h"
#include "filesystem/ext/volume.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

using ext::Superblock;

constexpr std::uint16_t kNoInodes = 1, kNoBitmap = 2, kTableIsZero = 4;  // of a group
constexpr std::uint32_t kResizeInode = 0x10;                             // may be ignored
constexpr std::uint32_t kResizeInodeNumber = 7;
constexpr std::uint64_t kMinLastGroup = 50;  // blocks besides its own structures
constexpr std::uint64_t kMaxGroups = 1u << 20;
// Bytes that are written at most: of inode tables, of copies of the descriptors.
constexpr std::uint64_t kMaxZeros = 64u << 20, kMaxCopies = 128u << 20;

// Of the superblock.
constexpr std::size_t kInodesAt = 0x00, kBlocksAt = 0x04, kReservedAt = 0x08, kFreeAt = 0x0C,
                      kFreeInodesAt = 0x10, kStateAt = 0x3A, kOwnGroupAt = 0x5A,
                      kReservedTablesAt = 0xCE, kBlocksHighAt = 0x150, kReservedHighAt = 0x154,
                      kFreeHighAt = 0x158, kOverheadAt = 0x248;

class ExtGrowth {
 public:
  ExtGrowth(const SourcePtr& volume, std::string address, const Context& context)
      : volume_(volume),
        address_(std::move(address)),
        context_(context),
        own_(super_of(*volume)),
        super_(parsed(own_)) {
    check();
  }

  GrownFileSystem run() {
    GrownFileSystem grown;
    grown.before_bytes = super_.volume_bytes();
    plan_size();
    grown.after_bytes = after_.volume_bytes();
    if (after_.block_count <= super_.block_count) {
      grown.after_bytes = grown.before_bytes;
      return grown;
    }
    load_descriptors();
    const std::uint64_t was_free = free_blocks_;
    fill_last_group();
    for (std::uint32_t g = super_.group_count(); g < after_.group_count(); ++g) {
      context_.check_cancelled();
      add_group(g);
    }
    if (has_reserve()) change_reserve();
    write_heads();
    grown.more_free_bytes = (free_blocks_ - was_free) * super_.block_bytes;
    grown.writes = std::move(writes_);
    return grown;
  }

 private:
  [[noreturn]] void refuse(const std::string& what, const std::string& next) const {
    throw Error(ErrorCode::refused, address_, std::nullopt, what, next);
  }
  [[noreturn]] void not_yet(const std::string& what, const std::string& next) const {
    throw Error(ErrorCode::unsupported, address_, std::nullopt, what, next);
  }

  static Bytes super_of(const ByteSource& volume) {
    return read_bytes(volume, ext::kSuperblockPlace, ext::kSuperblockBytes);
  }
  Superblock parsed(ByteView bytes) const {
    const auto super = ext::parse_superblock(bytes, ext::kSuperblockPlace);
    if (!super || !super->sum_is_right)
      refuse("the superblock of the file system is damaged", "repair it first");
    return *super;
  }

  // What rules it out.
  void check() const {
    const bool clean = (le16(own_, kStateAt) & 1) != 0 && (le16(own_, kStateAt) & 2) == 0;
    const ext::Volume opened{volume_, make_cached(volume_, context_), super_, volume_->size(),
                             context_};
    if (!clean || super_.has(ext::kRecover) || ext::journal_waits(opened) ||
        super_.first_orphan != 0)
      refuse("the file system was not unmounted: its journal has to be played first",
             "start the machine or mount it once, shut it down, and run this again");
    if (super_.cluster_blocks > 1)
      not_yet("the file system has clusters of several blocks, which is not grown yet",
              "grow it with its own system's tools");
    if (super_.has(ext::kMetaGroups) || super_.has(ext::kTwoCopies))
      not_yet("the file system keeps its group descriptors in a way that is not grown yet",
              "grow it with its own system's tools");
    if (super_.volume_bytes() > volume_->size())
      refuse("the file system is larger than its volume", "repair the partition table first");
  }

  std::uint64_t table_blocks(const Superblock& super) const {
    return divide_up(std::uint64_t{super.group_count()} * super.descriptor_bytes,
                     super.block_bytes);
  }
  std::uint64_t inode_table_blocks() const {
    return divide_up(std::uint64_t{super_.inodes_per_group} * super_.inode_bytes,
                     super_.block_bytes);
  }
  bool has_reserve() const { return (super_.ignorable & kResizeInode) != 0; }
  std::uint64_t reserve() const { return le16(own_, kReservedTablesAt); }

  // Blocks at the start of a group: superblock, descriptors, those reserved for more of them.
  std::uint64_t head_blocks(std::uint32_t group) const {
    return super_.has_copy(group) ? 1 + table_blocks_ + reserve_left_ : 0;
  }
  std::uint64_t blocks_in(const Superblock& super, std::uint32_t group) const {
    return std::min<std::uint64_t>(super.blocks_per_group,
                                   super.block_count - super.group_start(group));
  }

  void plan_size() {
    after_ = super_;
    after_.block_count = volume_->size() / super_.block_bytes;
    if (after_.block_count > 0xFFFFFFFF && !super_.has(ext::kWide)) after_.block_count = 0xFFFFFFFF;
    const std::uint64_t groups =
        divide_up(after_.block_count - super_.first_data_block, super_.blocks_per_group);
    const std::uint64_t most = 0xFFFFFFFFull / super_.inodes_per_group;
    if (groups > kMaxGroups)
      not_yet("so many groups are not grown here", "grow it with its own system's tools");
    if (groups > most)
      after_.block_count = super_.first_data_block + most * super_.blocks_per_group;
    const std::uint64_t old_tables = table_blocks(super_);
    const auto need = [&] { return table_blocks(after_) - old_tables; };
    if (after_.block_count > super_.block_count && need() > (has_reserve() ? reserve() : 0)) {
      const std::uint64_t of_block = super_.block_bytes / super_.descriptor_bytes;
      const std::uint64_t reach =
          (old_tables + (has_reserve() ? reserve() : 0)) * of_block * super_.blocks_per_group +
          super_.first_data_block;
      not_yet(fmt::format("the file system has descriptors reserved for {} and no more",
                          human_size(reach * super_.block_bytes)),
              "grow it to that size at most");
    }
    table_blocks_ = table_blocks(after_);
    reserve_left_ = (has_reserve() ? reserve() : 0) - need();
    if (1 + table_blocks_ + reserve_left_ + 2 + inode_table_blocks() >= super_.blocks_per_group)
      not_yet("the file system's own structures would fill a group",
              "grow it with its own system's tools");
    if (copies(after_.group_count()).size() * table_blocks_ * super_.block_bytes > kMaxCopies)
      not_yet("the file system keeps too many copies of its descriptors",
              "grow it with its own system's tools");
    // A last group that has no room for its own structures is left out.
    const std::uint32_t last = after_.group_count() - 1;
    if (last >= super_.group_count() &&
        blocks_in(after_, last) < head_blocks(last) + 2 + inode_table_blocks() + kMinLastGroup) {
      after_.block_count = after_.group_start(last);
      // Fewer groups may need fewer descriptors.
      const std::uint64_t fewer = table_blocks(after_);
      reserve_left_ += table_blocks_ - fewer;
      table_blocks_ = fewer;
    }
    after_.inode_count = after_.group_count() * super_.inodes_per_group;
  }

  // --- descriptors ------------------------------------------------------------------------------

  void load_descriptors() {
    const auto at = ext::descriptor_place(super_, 0, 0);
    if (!at) refuse("the group descriptors of the file system are damaged", "repair it first");
    descriptors_ = read_bytes(
        *volume_, *at,
        static_cast<std::size_t>(std::uint64_t{super_.group_count()} * super_.descriptor_bytes));
    if (descriptors_.size() < std::uint64_t{super_.group_count()} * super_.descriptor_bytes)
      refuse("the group descriptors of the file system cannot be read", "repair it first");
    std::uint64_t free_blocks = 0, free_inodes = 0;
    for (std::uint32_t g = 0; g < super_.group_count(); ++g) {
      context_.check_cancelled();
      const ByteView d = descriptor(g);
      const auto sum = ext::descriptor_sum(super_, g, d);
      if (sum && *sum != le16(d, 0x1E))
        refuse(fmt::format("the descriptor of group {} is damaged", g), "repair it first");
      free_blocks += half(d, 0x0C, 0x2C);
      free_inodes += half(d, 0x0E, 0x2E);
    }
    free_blocks_ = wide(own_, kFreeAt, kFreeHighAt);
    free_inodes_ = le32(own_, kFreeInodesAt);
    if (free_blocks != free_blocks_ || free_inodes != free_inodes_)
      refuse("the superblock and the group descriptors count different free blocks or inodes",
             "check the file system with its own system's tools first");
    descriptors_.resize(
        static_cast<std::size_t>(std::uint64_t{after_.group_count()} * super_.descriptor_bytes));
  }

  std::span<std::byte> descriptor(std::uint32_t group) {
    return std::span(descriptors_)
        .subspan(static_cast<std::size_t>(std::uint64_t{group} * super_.descriptor_bytes),
                 super_.descriptor_bytes);
  }
  bool is_wide() const { return super_.descriptor_bytes >= 64; }
  std::uint32_t half(ByteView d, std::size_t low, std::size_t high) const {
    return le16(d, low) | (is_wide() ? std::uint32_t{le16(d, high)} << 16 : 0);
  }
  void store_half(std::span<std::byte> d, std::size_t low, std::size_t high,
                  std::uint64_t value) const {
    store_le16(d, low, value & 0xFFFF);
    if (is_wide()) store_le16(d, high, value >> 16);
  }
  void store_place(std::span<std::byte> d, std::size_t low, std::size_t high,
                   std::uint64_t block) const {
    store_le32(d, low, block & 0xFFFFFFFF);
    if (is_wide()) store_le32(d, high, block >> 32);
  }
  std::uint64_t wide(ByteView bytes, std::size_t low, std::size_t high) const {
    return le32(bytes, low) | (super_.has(ext::kWide) ? std::uint64_t{le32(bytes, high)} << 32 : 0);
  }
  void store_wide(Bytes& bytes, std::size_t low, std::size_t high, std::uint64_t value) const {
    store_le32(bytes, low, value & 0xFFFFFFFF);
    if (super_.has(ext::kWide)) store_le32(bytes, high, value >> 32);
  }

  bool has_sums() const { return super_.has(ext::kMetadataSums); }
  bool has_flags() const { return has_sums() || super_.has(ext::kGroupSums); }

  void sum_bitmap(std::span<std::byte> d, ByteView bitmap, std::size_t bits, std::size_t low,
                  std::size_t high) const {
    if (!has_sums()) return;
    const std::uint32_t sum = crc32c_chain(super_.checksum_seed, bitmap.first(bits / 8));
    store_half(d, low, high, is_wide() ? sum : sum & 0xFFFF);
  }
  void sum_descriptor(std::uint32_t group) {
    if (const auto sum = ext::descriptor_sum(super_, group, descriptor(group)))
      store_le16(descriptor(group), 0x1E, *sum);
  }

  // --- groups -----------------------------------------------------------------------------------

  static void set_bits(Bytes& bitmap, std::uint64_t from, std::uint64_t to, bool used) {
    for (std::uint64_t bit = from; bit < to; ++bit) {
      const auto mask = static_cast<std::byte>(1u << bit % 8);
      std::byte& byte = bitmap.at(static_cast<std::size_t>(bit / 8));
      byte = used ? byte | mask : byte & ~mask;
    }
  }
  static std::uint64_t clear_bits(const Bytes& bitmap, std::uint64_t from, std::uint64_t to) {
    std::uint64_t clear = 0;
    for (std::uint64_t bit = from; bit < to; ++bit)
      clear += (u8(bitmap, static_cast<std::size_t>(bit / 8)) >> bit % 8 & 1) == 0 ? 1u : 0u;
    return clear;
  }
  void write(std::uint64_t block, Bytes bytes) {
    writes_.push_back({block * super_.block_bytes, std::move(bytes)});
  }

  void fill_last_group() {
    const std::uint32_t last = super_.group_count() - 1;
    const std::uint64_t was = blocks_in(super_, last), is = blocks_in(after_, last);
    if (is == was) return;
    const std::span<std::byte> d = descriptor(last);
    if (!has_flags() || (le16(d, 0x12) & kNoBitmap) == 0) {
      const std::uint64_t at = wide_place(d, 0, 0x20);
      Bytes bitmap = read_bytes(*volume_, at * super_.block_bytes, super_.block_bytes);
      if (bitmap.size() < super_.block_bytes)
        refuse("the block bitmap of the last group cannot be read", "repair it first");
      // It fits what its descriptor counts, so it is the bitmap.
      if (clear_bits(bitmap, 0, was) != half(d, 0x0C, 0x2C) ||
          clear_bits(bitmap, was, super_.blocks_per_group) != 0)
        refuse("the block bitmap of the last group does not fit its descriptor",
               "check the file system with its own system's tools first");
      set_bits(bitmap, was, is, false);
      sum_bitmap(d, bitmap, super_.blocks_per_group, 0x18, 0x38);
      write(at, std::move(bitmap));
    }
    store_half(d, 0x0C, 0x2C, half(d, 0x0C, 0x2C) + (is - was));
    free_blocks_ += is - was;
    sum_descriptor(last);
  }
  std::uint64_t wide_place(ByteView d, std::size_t low, std::size_t high) const {
    return le32(d, low) | (is_wide() ? std::uint64_t{le32(d, high)} << 32 : 0);
  }

  void add_group(std::uint32_t group) {
    const std::uint64_t start = after_.group_start(group), blocks = blocks_in(after_, group);
    const std::uint64_t head = head_blocks(group), table = inode_table_blocks();
    const std::uint64_t used = head + 2 + table;
    const std::span<std::byte> d = descriptor(group);
    store_place(d, 0x00, 0x20, start + head);
    store_place(d, 0x04, 0x24, start + head + 1);
    store_place(d, 0x08, 0x28, start + head + 2);
    store_half(d, 0x0C, 0x2C, blocks - used);
    store_half(d, 0x0E, 0x2E, super_.inodes_per_group);
    const Range place{(start + head + 2) * super_.block_bytes, table * super_.block_bytes};
    const bool is_zero = known_zero(*volume_, place);
    // What is flagged as never written is made by whoever uses it first; the last group's bitmap
    // has bits behind the end, and is always written.
    const bool is_last = group + 1 == after_.group_count();
    std::uint16_t flags = 0;
    if (has_flags()) {
      flags = kNoInodes;
      if (!is_last) flags |= kNoBitmap;
      if (is_zero) flags |= kTableIsZero;
      store_half(d, 0x1C, 0x32, super_.inodes_per_group);
      store_le16(d, 0x12, flags);
    } else if (!is_zero) {
      if ((zeros_ += place.length) > kMaxZeros)
        not_yet("the inode tables of this old kind of file system would have to be written whole",
                "grow it with its own system's tools");
      writes_.push_back({place.offset, Bytes(static_cast<std::size_t>(place.length))});
    }
    const std::uint64_t bits = std::uint64_t{super_.block_bytes} * 8;
    if ((flags & kNoBitmap) == 0) {
      Bytes bitmap(super_.block_bytes);
      set_bits(bitmap, 0, used, true);
      set_bits(bitmap, blocks, bits, true);
      sum_bitmap(d, bitmap, super_.blocks_per_group, 0x18, 0x38);
      write(start + head, std::move(bitmap));
    }
    if ((flags & kNoInodes) == 0) {
      Bytes bitmap(super_.block_bytes);
      set_bits(bitmap, super_.inodes_per_group, bits, true);
      write(start + head + 1, std::move(bitmap));
    }
    free_blocks_ += blocks - used;
    free_inodes_ += super_.inodes_per_group;
    sum_descriptor(group);
  }

  // --- the inode of the blocks reserved for descriptors ------------------------------------------

  // Groups other than the first that have a copy, up to `count` groups.
  std::vector<std::uint32_t> copies(std::uint32_t count) const {
    std::vector<std::uint32_t> groups;
    for (std::uint32_t g = 1; g < count; ++g)
      if (super_.has_copy(g)) groups.push_back(g);
    return groups;
  }

  // Its one indirect block leads to the reserved blocks of the first group, each of which leads to
  // its copies in the other groups. A block that becomes one of descriptors leaves it; new groups
  // with a copy join.
  void change_reserve() {
    const ext::Volume opened{volume_, make_cached(volume_, context_), super_, volume_->size(),
                             context_};
    const auto place = opened.inode_place(kResizeInodeNumber);
    if (!place) refuse("the inode of the reserved descriptors cannot be read", "repair it first");
    Bytes inode = read_bytes(*volume_, place->offset, static_cast<std::size_t>(place->length));
    const std::uint64_t indirect = inode.size() < 0x5C ? 0 : le32(inode, 0x28 + 13 * 4);
    if (!opened.valid_block(indirect))
      refuse("the inode of the reserved descriptors is damaged", "repair it first");
    Bytes list = read_bytes(*volume_, indirect * super_.block_bytes, super_.block_bytes);
    const std::uint64_t old_tables = table_blocks(super_);
    const std::size_t entries = super_.block_bytes / 4;
    const auto block_of = [&](std::uint64_t i) { return super_.first_data_block + 1 + i; };
    const auto old_copies = copies(super_.group_count()), new_copies = copies(after_.group_count());
    std::int64_t blocks = le32(inode, 0x1C);
    const std::int64_t unit = super_.block_bytes / 512;
    for (std::uint64_t i = old_tables; i < old_tables + reserve(); ++i) {
      const std::size_t at = static_cast<std::size_t>(i % entries) * 4;
      if (list.size() < super_.block_bytes || le32(list, at) != block_of(i))
        refuse("the reserved descriptors are not where they belong", "repair it first");
      if (i < table_blocks_) {
        store_le32(list, at, 0);
        blocks -= unit * static_cast<std::int64_t>(1 + old_copies.size());
        continue;
      }
      if (new_copies.size() == old_copies.size()) continue;
      Bytes block = read_bytes(*volume_, block_of(i) * super_.block_bytes, super_.block_bytes);
      if (block.size() < super_.block_bytes)
        refuse("a reserved descriptor cannot be read", "repair it first");
      for (std::size_t k = old_copies.size(); k < new_copies.size(); ++k) {
        if (k >= entries) refuse("there are more copies than can be noted", "grow it less");
        store_le32(block, 4 * k, after_.group_start(new_copies[k]) + 1 + i);
        blocks += unit;
      }
      write(block_of(i), std::move(block));
    }
    write(indirect, std::move(list));
    store_le32(inode, 0x1C, static_cast<std::uint64_t>(blocks));
    if (has_sums()) sum_inode(inode);
    writes_.push_back({place->offset, std::move(inode)});
  }

  void sum_inode(Bytes& inode) const {
    const bool has_high = inode.size() > 128 && le16(inode, 0x80) >= 4;
    store_le16(inode, 0x7C, 0);
    if (has_high) store_le16(inode, 0x82, 0);
    const std::uint32_t seed = ext::checksum_seed(super_, kResizeInodeNumber, le32(inode, 0x64));
    const std::uint32_t sum = crc32c_chain(seed, inode);
    store_le16(inode, 0x7C, sum & 0xFFFF);
    if (has_high) store_le16(inode, 0x82, sum >> 16);
  }

  // --- superblock and descriptors, copies first --------------------------------------------------

  void write_heads() {
    Bytes super = own_;
    store_le32(super, kInodesAt, after_.inode_count);
    store_wide(super, kBlocksAt, kBlocksHighAt, after_.block_count);
    const std::uint64_t kept = wide(own_, kReservedAt, kReservedHighAt);
    const auto grown = static_cast<std::uint64_t>(static_cast<double>(kept) /
                                                  static_cast<double>(super_.block_count) *
                                                  static_cast<double>(after_.block_count));
    store_wide(super, kReservedAt, kReservedHighAt, grown);
    store_wide(super, kFreeAt, kFreeHighAt, free_blocks_);
    store_le32(super, kFreeInodesAt, free_inodes_);
    store_le16(super, kReservedTablesAt, reserve_left_);
    // Whoever mounts it counts anew what structures take.
    store_le32(super, kOverheadAt, 0);
    Bytes table = descriptors_;
    table.resize(static_cast<std::size_t>(table_blocks_ * super_.block_bytes));
    for (const std::uint32_t g : copies(after_.group_count())) {
      const std::uint64_t start = after_.group_start(g);
      Bytes copy = super;
      store_le16(copy, kOwnGroupAt, g);
      sum_super(copy);
      write(start, std::move(copy));
      write(start + 1, table);
    }
    write(super_.first_data_block + 1, std::move(table));
    sum_super(super);
    writes_.push_back({ext::kSuperblockPlace, std::move(super)});
  }
  void sum_super(Bytes& super) const {
    if (has_sums())
      store_le32(super, ext::kSuperblockSumAt,
                 crc32c_chain(~0u, ByteView(super).first(ext::kSuperblockSumAt)));
  }

  SourcePtr volume_;
  std::string address_;
  const Context& context_;
  Bytes own_;
  Superblock super_, after_;
  std::uint64_t table_blocks_ = 0, reserve_left_ = 0;  // afterwards
  Bytes descriptors_;
  std::uint64_t free_blocks_ = 0, free_inodes_ = 0, zeros_ = 0;
  std::vector<VolumeWrite> writes_;
};

}  // namespace

GrownFileSystem grow_ext(const SourcePtr& volume, const std::string& address,
                         const Context& context) {
  return ExtGrowth(volume, address, context).run();
}

}  // namespace lantern::repair
