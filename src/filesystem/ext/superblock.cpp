#include "filesystem/ext/superblock.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/crc32c.h"

namespace lantern::ext {
namespace {

constexpr std::uint32_t kMaxLogBlock = 6;  // 64 KiB
constexpr std::uint32_t kMaxLogCluster = 20;
constexpr std::uint32_t kMinGroup = 256;  // blocks: no maker makes smaller ones
constexpr std::uint16_t kOldInodeBytes = 128;
constexpr std::uint32_t kDefaultBitsOfByte = 8;
constexpr std::uint64_t kDefaultClusterBlocks = 16;
constexpr std::array<std::uint32_t, 9> kCopyGroups = {1, 3, 5, 7, 9, 25, 27, 49, 81};

bool is_power_of(std::uint32_t value, std::uint32_t base) {
  while (value > 1 && value % base == 0) value /= base;
  return value == 1;
}

// Where copies lie by the sizes every maker uses unless told otherwise.
std::vector<std::uint64_t> usual_copy_places(std::uint64_t volume_bytes) {
  std::vector<std::uint64_t> places;
  const auto add = [&](std::uint64_t at) {
    if (at < volume_bytes) places.push_back(at);
  };
  for (std::uint64_t block = 1024; block <= 65536; block *= 2)
    for (const std::uint32_t group : kCopyGroups) {
      const std::uint64_t blocks = group * block * kDefaultBitsOfByte;
      add((blocks + (block == 1024 ? 1 : 0)) * block);
      add(blocks * kDefaultClusterBlocks * block);
    }
  return places;
}

// The first one; with one byte of it put right, where its sum tells which.
std::optional<Superblock> parse_own(Bytes bytes) {
  const auto own = parse_superblock(bytes, kSuperblockPlace);
  if ((own && own->sum_is_right) || bytes.size() < kSuperblockBytes) return own;
  const ByteView summed = ByteView(bytes).first(kSuperblockSumAt);
  const auto wrong =
      find_wrong_byte(summed, crc32c_chain(~0u, summed), le32(bytes, kSuperblockSumAt));
  if (!wrong) return own;
  bytes[wrong->at] = wrong->right;
  auto mended = parse_superblock(bytes, kSuperblockPlace);
  if (!mended || !mended->has(kMetadataSums)) return own;
  mended->mended = wrong;
  return mended;
}

// Without a sum, what is settled is right when the copies say the same. One copy alone counts only
// where the figures of the first contradict themselves.
bool is_outvoted(ByteView own, const Superblock& super, const std::vector<Bytes>& copies,
                 std::uint64_t volume_bytes) {
  const auto same = [](ByteView a, ByteView b) {
    return std::ranges::all_of(kSettled, [&](const auto& field) {
      return std::ranges::equal(slice(a, field.first, field.second),
                                slice(b, field.first, field.second));
    });
  };
  if (copies.empty()) return false;
  if (is_needed_doubted(le32(own, kNeededAt), le32(copies.front(), kNeededAt))) return true;
  if (same(own, copies.front())) return false;
  const bool contradicts =
      super.inode_count != std::uint64_t{super.inodes_per_group} * super.group_count() ||
      super.volume_bytes() > volume_bytes;
  return contradicts || (copies.size() > 1 && std::ranges::all_of(copies, [&](const Bytes& copy) {
                           return same(copy, copies.front());
                         }));
}

}  // namespace

std::string type_of(const Superblock& super) {
  constexpr std::uint32_t kOfExt4 = kExtents | kWide | kFlexGroups | kMetaGroups | kInlineData;
  constexpr std::uint32_t kOfExt4Writing = 0x8 | 0x10 | 0x20 | 0x40 | kBigClusters | kMetadataSums;
  if ((super.needed & kOfExt4) != 0 || (super.needed_for_writing & kOfExt4Writing) != 0)
    return "ext4";
  return super.has(kHasJournal) ? "ext3" : "ext2";
}

std::string uuid_text(const std::array<std::byte, 16>& uuid) {
  std::string text;
  for (std::size_t i = 0; i < uuid.size(); ++i) {
    if (i == 4 || i == 6 || i == 8 || i == 10) text += '-';
    fmt::format_to(std::back_inserter(text), "{:02x}", std::to_integer<unsigned>(uuid[i]));
  }
  return text;
}

bool Superblock::has_copy(std::uint32_t group) const {
  if (group == 0) return true;
  if (has(kTwoCopies)) return group == copy_groups[0] || group == copy_groups[1];
  if (!has(kSparseCopies)) return true;
  return group == 1 || is_power_of(group, 3) || is_power_of(group, 5) || is_power_of(group, 7);
}

std::optional<Superblock> parse_superblock(ByteView bytes, std::uint64_t place) {
  if (bytes.size() < kSuperblockBytes || le16(bytes, 0x38) != 0xEF53) return std::nullopt;
  Superblock s;
  s.place = place;
  const std::uint32_t log_block = le32(bytes, 0x18);
  const std::uint32_t log_cluster = le32(bytes, 0x1C);
  if (log_block > kMaxLogBlock) return std::nullopt;
  s.block_bytes = 1024u << log_block;
  s.ignorable = le32(bytes, 0x5C);
  s.needed = le32(bytes, kNeededAt);
  s.needed_for_writing = le32(bytes, 0x64);
  const bool old = le32(bytes, 0x4C) == 0;
  s.inode_bytes = old ? kOldInodeBytes : le16(bytes, 0x58);
  s.inode_count = le32(bytes, 0);
  s.block_count = le32(bytes, 4);
  if (s.has(kWide)) s.block_count |= std::uint64_t{le32(bytes, 0x150)} << 32;
  s.first_data_block = le32(bytes, 0x14);
  s.blocks_per_group = le32(bytes, 0x20);
  s.inodes_per_group = le32(bytes, 0x28);
  if (s.has(kBigClusters)) {
    if (log_cluster < log_block || log_cluster > kMaxLogCluster) return std::nullopt;
    s.cluster_blocks = 1u << (log_cluster - log_block);
  }
  if (s.has(kWide)) s.descriptor_bytes = le16(bytes, 0xFE);
  const std::uint32_t bits = s.block_bytes * kDefaultBitsOfByte;
  if (!is_power_of_two(s.inode_bytes) || s.inode_bytes < kOldInodeBytes ||
      s.inode_bytes > s.block_bytes || s.blocks_per_group < kMinGroup ||
      s.blocks_per_group / s.cluster_blocks > bits || s.inodes_per_group == 0 ||
      s.inodes_per_group > bits || s.first_data_block > 1 || s.block_count <= s.first_data_block ||
      s.block_count >= (1ull << 48) ||
      (s.block_count - s.first_data_block) / s.blocks_per_group > 0xFFFFFFF0 ||
      !is_power_of_two(s.descriptor_bytes) || s.descriptor_bytes < 32 ||
      s.descriptor_bytes > s.block_bytes || s.inode_count < 11 ||
      s.inode_count > std::uint64_t{s.inodes_per_group} * s.group_count())
    return std::nullopt;
  s.first_meta_group = le32(bytes, 0x104);
  if (s.has(kReservedTables)) s.reserved_tables = le16(bytes, 0xCE);
  s.journal_inode = le32(bytes, 0xE0);
  std::copy_n(bytes.begin() + 0xD0, s.journal_uuid.size(), s.journal_uuid.begin());
  s.first_orphan = le32(bytes, 0xE8);
  s.orphan_file = le32(bytes, 0x280);
  s.copy_groups = {le32(bytes, 0x24C), le32(bytes, 0x250)};
  std::copy_n(bytes.begin() + 0x68, s.uuid.size(), s.uuid.begin());
  s.label = text_of(slice(bytes, 0x78, 16));
  s.label.resize(std::min(s.label.find('\0'), s.label.size()));
  s.checksum_seed = s.has(kSeed) ? le32(bytes, 0x270) : crc32c_chain(~0u, s.uuid);
  if (s.has(kMetadataSums))
    s.sum_is_right =
        crc32c_chain(~0u, bytes.first(kSuperblockSumAt)) == le32(bytes, kSuperblockSumAt);
  return s;
}

std::vector<Superblock> find_superblocks(const ByteSource& volume) {
  std::vector<Superblock> found;
  std::vector<Bytes> copies;  // of what stands in the first place
  const auto read = [&](std::uint64_t at) {
    Bytes bytes(kSuperblockBytes);
    bytes.resize(volume.read(at, bytes).length);
    return bytes;
  };
  const Bytes own_bytes = read(kSuperblockPlace);
  if (const auto own = parse_own(own_bytes)) found.push_back(*own);
  for (const std::uint64_t at : usual_copy_places(volume.size())) {
    Bytes bytes = read(at);
    const auto copy = parse_superblock(bytes, at);
    // A copy stands at the start of a group by its own figures.
    if (!copy || at % copy->block_bytes != 0) continue;
    const std::uint64_t block = at / copy->block_bytes - copy->first_data_block;
    if (block % copy->blocks_per_group != 0) continue;
    found.push_back(*copy);
    if (std::ranges::equal(slice(bytes, 0x68, 16), slice(own_bytes, 0x68, 16)))
      copies.push_back(std::move(bytes));
  }
  if (!found.empty() && found.front().place == kSuperblockPlace &&
      !found.front().has(kMetadataSums))
    found.front().outvoted = is_outvoted(own_bytes, found.front(), copies, volume.size());
  // Those whose checksum is wrong come last.
  std::stable_partition(found.begin(), found.end(),
                        [](const Superblock& s) { return s.trusted(); });
  return found;
}

std::vector<Superblock> superblock_at(const ByteSource& volume, std::uint64_t place) {
  Bytes bytes(kSuperblockBytes);
  bytes.resize(volume.read(place, bytes).length);
  const auto found = parse_superblock(bytes, place);
  return found ? std::vector{*found} : std::vector<Superblock>{};
}

}  // namespace lantern::ext
