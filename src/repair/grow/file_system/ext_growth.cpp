#include "repair/grow/file_system/ext_growth.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

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
constexpr std::uint32_t kResizeInodeNumber = 7;
constexpr std::uint32_t kGuarded = 0x100, kNobody = 0xFF4D4D50;  // against two mounts at once
constexpr std::uint64_t kMinLastGroup = 50;  // blocks besides its own structures
constexpr std::uint64_t kMaxGroups = 1u << 20;
// Bytes that are written at most: of inode tables, of copies of the descriptors.
constexpr std::uint64_t kMaxZeros = 64u << 20, kMaxCopies = 128u << 20;

// Of the superblock.
constexpr std::size_t kInodesAt = 0x00, kBlocksAt = 0x04, kReservedAt = 0x08, kFreeAt = 0x0C,
                      kFreeInodesAt = 0x10, kStateAt = 0x3A, kOwnGroupAt = 0x5A,
                      kIgnorableAt = 0x5C, kReservedTablesAt = 0xCE, kFirstMetaGroupAt = 0x104,
                      kGuardAt = 0x168, kBlocksHighAt = 0x150, kReservedHighAt = 0x154,
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
    const std::uint64_t was_free = free_clusters_;
    fill_last_group();
    for (std::uint32_t g = super_.group_count(); g < after_.group_count(); ++g) {
      context_.check_cancelled();
      add_group(g);
    }
    if (has_reserve()) change_reserve();
    write_bitmaps();
    write_heads();
    grown.more_free_bytes =
        (free_clusters_ - was_free) * super_.cluster_blocks * super_.block_bytes;
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
    if ((super_.needed & kGuarded) != 0) {
      const Bytes guard =
          read_bytes(*volume_, saturating_mul(le64(own_, kGuardAt), super_.block_bytes), 8);
      if (guard.size() < 8 || le32(guard, 4) != kNobody)
        refuse("the file system's own guard says that somebody has it mounted",
               "unmount it there, and run this again");
    }
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
  bool has_reserve() const { return super_.has(ext::kReservedTables); }
  std::uint64_t reserve() const { return le16(own_, kReservedTablesAt); }

  bool is_meta(const Superblock& super) const { return super.has(ext::kMetaGroups); }
  std::uint32_t of_block() const { return super_.block_bytes / super_.descriptor_bytes; }

  // Blocks at the start of a group: superblock, descriptors, those reserved for more of them. Of a
  // meta group its own descriptors, in its first, second and last group.
  std::uint64_t head_blocks(std::uint32_t group) const {
    const std::uint64_t copy = super_.has_copy(group) ? 1 : 0;
    if (!is_meta(after_) || group / of_block() < after_.first_meta_group)
      return copy * (1 + table_blocks_ + reserve_left_);
    const std::uint32_t within = group % of_block();
    return copy + (within == 0 || within == 1 || within == of_block() - 1 ? 1 : 0);
  }
  std::uint64_t blocks_in(const Superblock& super, std::uint32_t group) const {
    return std::min<std::uint64_t>(super.blocks_per_group,
                                   super.block_count - super.group_start(group));
  }

  void plan_size() {
    after_ = super_;
    after_.block_count = volume_->size() / super_.block_bytes;
    if (after_.block_count > 0xFFFFFFFF && !super_.has(ext::kWide)) after_.block_count = 0xFFFFFFFF;
    after_.block_count -= after_.block_count % super_.cluster_blocks;
    const std::uint64_t groups =
        divide_up(after_.block_count - super_.first_data_block, super_.blocks_per_group);
    const std::uint64_t most = 0xFFFFFFFFull / super_.inodes_per_group;
    if (groups > kMaxGroups)
      not_yet("so many groups are not grown here", "grow it with its own system's tools");
    if (groups > most)
      after_.block_count = super_.first_data_block + most * super_.blocks_per_group;
    choose_layout();
    // A last group that has no room for its own structures is left out; fewer groups may need fewer
    // descriptors.
    const std::uint32_t last = after_.group_count() - 1;
    if (last >= super_.group_count() &&
        blocks_in(after_, last) < head_blocks(last) + 2 + inode_table_blocks() + kMinLastGroup) {
      after_.block_count = after_.group_start(last);
      choose_layout();
    }
    if (1 + table_blocks_ + reserve_left_ + 2 + inode_table_blocks() >= super_.blocks_per_group)
      not_yet("the file system's own structures would fill a group",
              "grow it with its own system's tools");
    if (copies(after_.group_count()).size() * table_blocks_ * super_.block_bytes > kMaxCopies)
      not_yet("the file system keeps too many copies of its descriptors",
              "grow it with its own system's tools");
    after_.inode_count = after_.group_count() * super_.inodes_per_group;
  }

  // Where the descriptors lie: behind the superblock and its copies, in blocks that were reserved
  // for that; those that find no room there, in the groups themselves (meta groups). What was still
  // reserved is used up before that.
  void choose_layout() {
    after_.needed = super_.needed;
    after_.ignorable = super_.ignorable;
    after_.first_meta_group = super_.first_meta_group;
    const std::uint64_t reserved = has_reserve() ? reserve() : 0;
    const std::uint64_t old_tables = table_blocks(super_), needed = table_blocks(after_);
    reserve_left_ = 0;
    if (is_meta(super_)) {
      table_blocks_ = super_.first_meta_group;
    } else if (needed <= old_tables + reserved) {
      table_blocks_ = std::max(needed, old_tables);
      reserve_left_ = old_tables + reserved - table_blocks_;
    } else {
      table_blocks_ = old_tables + reserved;
      after_.needed |= ext::kMetaGroups;
      after_.ignorable &= ~std::uint32_t{ext::kReservedTables};
      after_.first_meta_group = static_cast<std::uint32_t>(table_blocks_);
    }
  }

  // --- descriptors ------------------------------------------------------------------------------

  void load_descriptors() {
    for (std::uint32_t first = 0; first < super_.group_count(); first += of_block()) {
      const auto at = ext::descriptor_place(super_, first, 0);
      const std::uint32_t count = std::min(of_block(), super_.group_count() - first);
      const Bytes part =
          read_bytes(*volume_, at.value_or(volume_->size()),
                     static_cast<std::size_t>(std::uint64_t{count} * super_.descriptor_bytes));
      descriptors_.insert(descriptors_.end(), part.begin(), part.end());
    }
    if (descriptors_.size() != std::uint64_t{super_.group_count()} * super_.descriptor_bytes)
      refuse("the group descriptors of the file system cannot be read", "repair it first");
    std::uint64_t free_inodes = 0;
    for (std::uint32_t g = 0; g < super_.group_count(); ++g) {
      context_.check_cancelled();
      const ByteView d = descriptor(g);
      const auto sum = ext::descriptor_sum(super_, g, d);
      if (sum && *sum != le16(d, 0x1E))
        refuse(fmt::format("the descriptor of group {} is damaged", g), "repair it first");
      free_clusters_ += half(d, 0x0C, 0x2C);
      free_inodes += half(d, 0x0E, 0x2E);
    }
    free_inodes_ = le32(own_, kFreeInodesAt);
    if (free_clusters_ * super_.cluster_blocks != wide(own_, kFreeAt, kFreeHighAt) ||
        free_inodes != free_inodes_)
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

  // Bitmaps say of clusters whether they are in use.
  std::uint64_t clusters_in(const Superblock& super, std::uint32_t group) const {
    return divide_up(blocks_in(super, group), super_.cluster_blocks);
  }
  std::uint32_t group_bits() const { return super_.blocks_per_group / super_.cluster_blocks; }

  // Of a group that is there and has one, to be changed.
  Bytes& bitmap_of(std::uint32_t group) {
    if (const auto known = bitmaps_.find(group); known != bitmaps_.end()) return known->second;
    const std::span<std::byte> d = descriptor(group);
    Bytes bitmap =
        read_bytes(*volume_, wide_place(d, 0, 0x20) * super_.block_bytes, super_.block_bytes);
    if (bitmap.size() < super_.block_bytes)
      refuse(fmt::format("the block bitmap of group {} cannot be read", group), "repair it first");
    // It fits what its descriptor counts, so it is the bitmap.
    const std::uint64_t here = clusters_in(super_, group);
    if (clear_bits(bitmap, 0, here) != half(d, 0x0C, 0x2C) ||
        clear_bits(bitmap, here, group_bits()) != 0)
      refuse(fmt::format("the block bitmap of group {} does not fit its descriptor", group),
             "check the file system with its own system's tools first");
    return bitmaps_.emplace(group, std::move(bitmap)).first->second;
  }
  void add_free(std::uint32_t group, std::uint64_t clusters) {
    const std::span<std::byte> d = descriptor(group);
    store_half(d, 0x0C, 0x2C, half(d, 0x0C, 0x2C) + clusters);
    free_clusters_ += clusters;
  }
  void write_bitmaps() {
    for (auto& [group, bitmap] : bitmaps_) {
      const std::span<std::byte> d = descriptor(group);
      sum_bitmap(d, bitmap, group_bits(), 0x18, 0x38);
      sum_descriptor(group);
      write(wide_place(d, 0, 0x20), std::move(bitmap));
    }
  }

  void fill_last_group() {
    const std::uint32_t last = super_.group_count() - 1;
    const std::uint64_t was = clusters_in(super_, last), is = clusters_in(after_, last);
    if (is == was) return;
    if (!has_flags() || (le16(descriptor(last), 0x12) & kNoBitmap) == 0)
      set_bits(bitmap_of(last), was, is, false);
    add_free(last, is - was);
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
    const std::uint64_t clusters = divide_up(blocks, super_.cluster_blocks);
    const std::uint64_t taken = divide_up(used, super_.cluster_blocks);
    add_free(group, clusters - taken);
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
      set_bits(bitmap, 0, taken, true);
      set_bits(bitmap, clusters, bits, true);
      sum_bitmap(d, bitmap, group_bits(), 0x18, 0x38);
      write(start + head, std::move(bitmap));
    }
    if ((flags & kNoInodes) == 0) {
      Bytes bitmap(super_.block_bytes);
      set_bits(bitmap, super_.inodes_per_group, bits, true);
      write(start + head + 1, std::move(bitmap));
    }
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
    if (is_meta(after_) && super_.cluster_blocks > 1)
      not_yet("descriptors reserved in clusters of several blocks are not grown past yet",
              "grow it less");
    const std::uint64_t old_tables = table_blocks(super_);
    const std::size_t entries = super_.block_bytes / 4;
    const std::uint64_t first =
        ext::descriptor_place(super_, 0, 0).value_or(0) / super_.block_bytes;
    const auto block_of = [&](std::uint64_t i) { return first + i; };
    const auto old_copies = copies(super_.group_count()), new_copies = copies(after_.group_count());
    std::int64_t blocks = le32(inode, 0x1C);
    // Each counts as the cluster it is in.
    const std::int64_t unit = std::int64_t{super_.cluster_blocks} * super_.block_bytes / 512;
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
    if (is_meta(after_)) {
      // Nothing is reserved any more.
      release(indirect);
      writes_.push_back({place->offset, Bytes(inode.size())});
      return;
    }
    write(indirect, std::move(list));
    store_le32(inode, 0x1C, static_cast<std::uint64_t>(blocks));
    if (has_sums()) sum_inode(inode);
    writes_.push_back({place->offset, std::move(inode)});
  }

  void release(std::uint64_t block) {
    const std::uint64_t at = block - super_.first_data_block;
    const auto group = static_cast<std::uint32_t>(at / super_.blocks_per_group);
    const std::uint64_t bit = at % super_.blocks_per_group;
    Bytes& bitmap = bitmap_of(group);
    if (clear_bits(bitmap, bit, bit + 1) != 0)
      refuse("the inode of the reserved descriptors is damaged", "repair it first");
    set_bits(bitmap, bit, bit + 1, false);
    add_free(group, 1);
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
    store_wide(super, kFreeAt, kFreeHighAt, free_clusters_ * super_.cluster_blocks);
    store_le32(super, kFreeInodesAt, free_inodes_);
    store_le16(super, kReservedTablesAt, reserve_left_);
    store_le32(super, kIgnorableAt, after_.ignorable);
    store_le32(super, ext::kNeededAt, after_.needed);
    store_le32(super, kFirstMetaGroupAt, after_.first_meta_group);
    // Whoever mounts it counts anew what structures take.
    store_le32(super, kOverheadAt, 0);
    const std::size_t block_bytes = super_.block_bytes;
    Bytes table = descriptors_;
    table.resize(static_cast<std::size_t>(table_blocks(after_)) * block_bytes);
    const ByteView old_kind =
        ByteView(table).first(std::min<std::size_t>(table.size(), table_blocks_ * block_bytes));
    for (const std::uint32_t g : copies(after_.group_count())) {
      const std::uint64_t start = after_.group_start(g);
      Bytes copy = super;
      store_le16(copy, kOwnGroupAt, g);
      sum_super(copy);
      write(start, std::move(copy));
      if (!is_meta(after_) || g / of_block() < after_.first_meta_group)
        write(start + 1, Bytes(old_kind.begin(), old_kind.end()));
    }
    for (std::uint64_t i = table_blocks_; i * block_bytes < table.size(); ++i)
      for (const std::uint32_t holder : {2u, 1u, 0u})
        if (const auto at =
                ext::descriptor_place(after_, static_cast<std::uint32_t>(i * of_block()), holder)) {
          const ByteView part =
              slice(table, static_cast<std::size_t>(i) * block_bytes, block_bytes);
          writes_.push_back({*at, Bytes(part.begin(), part.end())});
        }
    if (!old_kind.empty())
      writes_.push_back(
          {*ext::descriptor_place(after_, 0, 0), Bytes(old_kind.begin(), old_kind.end())});
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
  // Afterwards; those behind the superblock, without what lies in meta groups.
  std::uint64_t table_blocks_ = 0, reserve_left_ = 0;
  Bytes descriptors_;
  std::map<std::uint32_t, Bytes> bitmaps_;  // of groups that are there, changed
  std::uint64_t free_clusters_ = 0, free_inodes_ = 0, zeros_ = 0;
  std::vector<VolumeWrite> writes_;
};

}  // namespace

GrownFileSystem grow_ext(const SourcePtr& volume, const std::string& address,
                         const Context& context) {
  return ExtGrowth(volume, address, context).run();
}

}  // namespace lantern::repair
