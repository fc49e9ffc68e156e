// ext2, ext3, ext4 (layout: filesystem/ext/superblock.h, volume.h): superblock and group
// descriptors from their copies. Those date from when the volume was made: what they count is
// counted again, from the bitmaps and inode tables.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/crc32c.h"
#include "base/store.h"
#include "filesystem/ext/journal.h"
#include "filesystem/ext/volume.h"
#include "lantern/sources.h"
#include "repair/diagnose/volume_diagnosis.h"

namespace lantern::repair {
namespace {

using ext::Superblock;

constexpr std::uint32_t kMaxGroups = 1u << 20;
constexpr std::uint64_t kAllLookedAt = 256u << 20;  // bytes of a volume that are all looked at
constexpr std::uint16_t kNoInodes = 1;
constexpr std::uint16_t kNoBitmap = 2;

class ExtDiagnosis : VolumeDiagnosis {
 public:
  ExtDiagnosis(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
               const Context& context)
      : VolumeDiagnosis(disk, volume, diagnosis), context_(context) {}

  void run() {
    auto supers = ext::find_superblocks(bytes_);
    if (supers.empty()) {
      look_for_journal();
      if (in_journal_) supers.push_back(*in_journal_);
    }
    if (supers.empty()) return;
    const Superblock& super = supers.front();
    if (super.group_count() > kMaxGroups) return;
    super_ = super;
    descriptors();
    if (super.mended)
      wrong_byte(*super.mended);
    else if (super.place != ext::kSuperblockPlace || !super.trusted())
      superblock(supers);
  }

 private:
  // Of a volume without copies of its head the journal may have them: its youngest superblock, and
  // the blocks of descriptors.
  void look_for_journal() {
    constexpr std::size_t kSearched = 1u << 20;
    std::uint32_t youngest = 0;
    looked_ = true;
    if (bytes_.size() > kAllLookedAt) return;
    for (std::uint64_t at = 0; at < bytes_.size(); at += kSearched) {
      context_.check_cancelled();
      if (known_zero(bytes_, intersect({at, kSearched}, {0, bytes_.size()}))) continue;
      const Bytes piece = read_bytes(bytes_, at, kSearched + ext::kSuperblockBytes);
      for (std::size_t i = 0; i + kSector <= std::min(piece.size(), kSearched); i += kSector) {
        const ByteView here = ByteView(piece).subspan(i);
        if (const std::uint64_t length = ext::journal_span(here.first(kSector));
            length > kSector && !history_)
          history_ = ext::read_loose_history(volume_.bytes, at + i, context_);
        if (le16(here, 0x38) != 0xEF53 || at + i == ext::kSuperblockPlace) continue;
        const auto super = ext::parse_superblock(here, at + i);
        const std::uint32_t written = le32(here, 0x30);
        if (!super || !super->sum_is_right || le16(here, 0x5A) != 0 || written < youngest ||
            super->volume_bytes() > bytes_.size() || !leads_to_root(*super))
          continue;
        youngest = written;
        in_journal_ = super;
      }
    }
  }

  // Whether the descriptor of the first group, here or in the journal, leads to a root folder.
  bool leads_to_root(const Superblock& super) const {
    const auto place = ext::descriptor_place(super, 0, 0);
    if (!place) return false;
    std::vector<std::uint64_t> places = {*place};
    if (history_)
      if (const auto copy = history_->newest.find(*place / super.block_bytes);
          copy != history_->newest.end())
        places.push_back(copy->second + *place % super.block_bytes);
    return std::any_of(places.begin(), places.end(), [&](std::uint64_t at) {
      const Bytes descriptor = read_bytes(bytes_, at, super.descriptor_bytes);
      if (descriptor.size() < super.descriptor_bytes) return false;
      const std::uint64_t table = le32(descriptor, 8) * std::uint64_t{super.block_bytes};
      const Bytes mode =
          read_bytes(bytes_, table + std::uint64_t{ext::kRootInode - 1} * super.inode_bytes, 2);
      return table != 0 && mode.size() == 2 && (le16(mode, 0) & 0xF000) == 0x4000;
    });
  }

  // Each group's descriptor as it should be; where its own is none, made from a copy.
  void descriptors() {
    const std::uint32_t groups = super_.group_count();
    std::uint32_t first = 0, made = 0;
    RepairStep step;
    Bytes before, after;
    std::uint64_t run_at = 0;
    const auto flush = [&] {
      if (!after.empty()) change(step, run_at, before, after);
      before.clear();
      after.clear();
    };
    for (std::uint32_t g = 0; g < groups; ++g) {
      context_.check_cancelled();
      const auto place = ext::descriptor_place(super_, g, 0);
      if (!place) return;
      Bytes own = read_bytes(bytes_, *place, super_.descriptor_bytes);
      if (own.size() < super_.descriptor_bytes) return;
      if (!good(g, own)) {
        const auto copy = copy_of(g);
        if (!copy) {
          note(fmt::format("the descriptor of group {} and its copies are lost", g));
          return;
        }
        const Bytes right = recounted(g, *copy);
        if (after.empty() || run_at + after.size() != *place) {
          flush();
          run_at = *place;
        }
        before.insert(before.end(), own.begin(), own.end());
        after.insert(after.end(), right.begin(), right.end());
        if (made++ == 0) first = g;
        own = right;
      }
      count(own);
    }
    flush();
    step.code = "ext.descriptors";
    step.certainty = Certainty::certain;
    step.what = fmt::format("{} group descriptors, the first of group {}", made, first);
    step.evidence =
        "they are invalid, or their checksums are wrong; their places are those of a copy, what is "
        "in use "
        "is "
        "counted from the bitmaps and inode tables";
    add(std::move(step));
  }

  std::uint64_t wide(ByteView d, std::size_t low, std::size_t high) const {
    return le32(d, low) | (super_.descriptor_bytes >= 64 ? std::uint64_t{le32(d, high)} << 32 : 0);
  }
  std::uint32_t half(ByteView d, std::size_t low, std::size_t high) const {
    return le16(d, low) | (super_.descriptor_bytes >= 64 ? std::uint32_t{le16(d, high)} << 16 : 0);
  }
  void store_half(Bytes& d, std::size_t low, std::size_t high, std::uint32_t value) const {
    store_le16(d, low, value & 0xFFFF);
    if (super_.descriptor_bytes >= 64) store_le16(d, high, value >> 16);
  }

  bool good(std::uint32_t g, ByteView d) const {
    const auto sum = ext::descriptor_sum(super_, g, d);
    if (sum && *sum != le16(d, 0x1E)) return false;
    const auto there = [&](std::uint64_t block) {
      return block > super_.first_data_block && block < super_.block_count;
    };
    return there(wide(d, 0, 0x20)) && there(wide(d, 4, 0x24)) && there(wide(d, 8, 0x28));
  }

  std::optional<Bytes> copy_of(std::uint32_t g) {
    const std::uint32_t of_block = super_.block_bytes / super_.descriptor_bytes;
    const bool meta = super_.has(ext::kMetaGroups) && g / of_block >= super_.first_meta_group;
    const std::uint32_t most = meta ? 3 : super_.group_count();
    for (std::uint32_t holder = 1; holder < most; ++holder) {
      if (!meta && !super_.has_copy(holder)) continue;
      const auto place = ext::descriptor_place(super_, g, holder);
      if (!place) continue;
      const Bytes copy = read_bytes(bytes_, *place, super_.descriptor_bytes);
      if (copy.size() == super_.descriptor_bytes && good(g, copy)) return copy;
    }
    const auto place = ext::descriptor_place(super_, g, 0);
    if (!looked_) look_for_journal();
    if (!history_ || !place) return std::nullopt;
    const auto copy = history_->newest.find(*place / super_.block_bytes);
    if (copy == history_->newest.end()) return std::nullopt;
    const Bytes bytes =
        read_bytes(bytes_, copy->second + *place % super_.block_bytes, super_.descriptor_bytes);
    if (bytes.size() == super_.descriptor_bytes && good(g, bytes)) return bytes;
    return std::nullopt;
  }

  static std::uint32_t bits_set(ByteView bitmap, std::uint32_t count) {
    std::uint32_t set = 0;
    count = static_cast<std::uint32_t>(std::min<std::uint64_t>(count, bitmap.size() * 8));
    for (std::uint32_t i = 0; i < count; ++i)
      set += static_cast<std::uint32_t>(u8(bitmap, i / 8)) >> (i % 8) & 1;
    return set;
  }

  // A descriptor of a copy with what its group holds today.
  Bytes recounted(std::uint32_t g, Bytes d) {
    const bool sums = super_.has(ext::kMetadataSums);
    const bool flags = sums || super_.has(ext::kGroupSums);
    const std::uint32_t clusters = clusters_in(g);
    const Bytes blocks =
        read_bytes(bytes_, wide(d, 0, 0x20) * super_.block_bytes, super_.block_bytes);
    const Bytes inodes =
        read_bytes(bytes_, wide(d, 4, 0x24) * super_.block_bytes, super_.block_bytes);
    std::uint16_t flag = le16(d, 0x12);
    if (blocks.size() == super_.block_bytes &&
        !(flags && (flag & kNoBitmap) != 0 && all_zero(blocks))) {
      flag = static_cast<std::uint16_t>(flag & ~kNoBitmap);
      store_half(d, 0x0C, 0x2C, clusters - bits_set(blocks, clusters));
    }
    if (inodes.size() == super_.block_bytes &&
        !(flags && (flag & kNoInodes) != 0 && all_zero(inodes))) {
      const std::uint32_t used = bits_set(inodes, super_.inodes_per_group);
      std::uint32_t last = 0;
      const std::uint32_t folders = folders_in(d, inodes, last);
      if (used > 0) flag = static_cast<std::uint16_t>(flag & ~kNoInodes);
      store_half(d, 0x0E, 0x2E, super_.inodes_per_group - used);
      store_half(d, 0x10, 0x30, folders);
      if (flags) store_half(d, 0x1C, 0x32, super_.inodes_per_group - last);
    }
    if (flags) store_le16(d, 0x12, flag);
    if (sums) {
      const auto sum = [&](ByteView bitmap, std::size_t length, std::size_t low, std::size_t high) {
        const std::uint32_t value =
            crc32c_chain(super_.checksum_seed, bitmap.first(std::min(length, bitmap.size())));
        store_le16(d, low, value & 0xFFFF);
        if (super_.descriptor_bytes >= high + 2) store_le16(d, high, value >> 16);
      };
      if ((flag & kNoBitmap) == 0)
        sum(blocks, super_.blocks_per_group / super_.cluster_blocks / 8, 0x18, 0x38);
      if ((flag & kNoInodes) == 0) sum(inodes, super_.inodes_per_group / 8, 0x1A, 0x3A);
    }
    if (const auto right = ext::descriptor_sum(super_, g, d)) store_le16(d, 0x1E, *right);
    return d;
  }

  std::uint32_t clusters_in(std::uint32_t g) const {
    const std::uint64_t blocks = std::min<std::uint64_t>(
        super_.blocks_per_group, super_.block_count - super_.group_start(g));
    return static_cast<std::uint32_t>(divide_up(blocks, super_.cluster_blocks));
  }

  // Folders among the inodes in use; `last`: one past the last in use.
  std::uint32_t folders_in(ByteView d, ByteView inodes, std::uint32_t& last) const {
    const std::uint64_t table = wide(d, 8, 0x28) * super_.block_bytes;
    std::uint32_t folders = 0;
    for (std::uint32_t i = 0; i < super_.inodes_per_group; ++i) {
      if ((u8(inodes, i / 8) >> (i % 8) & 1) == 0) continue;
      last = i + 1;
      const Bytes mode = read_bytes(bytes_, table + std::uint64_t{i} * super_.inode_bytes, 2);
      if (mode.size() == 2 && (le16(mode, 0) & 0xF000) == 0x4000) ++folders;
    }
    return folders;
  }

  void count(ByteView d) {
    free_clusters_ += half(d, 0x0C, 0x2C);
    free_inodes_ += half(d, 0x0E, 0x2E);
  }

  void wrong_byte(const WrongByte& wrong) {
    const Bytes own = read_bytes(bytes_, ext::kSuperblockPlace, ext::kSuperblockBytes);
    Bytes after = own;
    after.at(wrong.at) = wrong.right;
    propose("ext.superblock", Certainty::certain,
            fmt::format("byte {} of the superblock becomes {:02x}", wrong.at, u8(after, wrong.at)),
            fmt::format("it is {:02x}, and the checksum of the superblock is wrong; this one byte "
                        "alone makes it right",
                        u8(own, wrong.at)),
            ext::kSuperblockPlace, own, after);
  }

  // A superblock that is this volume's own but for a few settled figures: they alone are taken from
  // the copy. False: more of it is gone.
  bool settled(const Bytes& own, ByteView copy, std::uint64_t place) {
    constexpr std::size_t kMaxWrong = 16;  // bytes
    if (!std::ranges::equal(slice(own, 0x68, 16), slice(copy, 0x68, 16))) return false;
    Bytes after = own;
    store_le16(after, 0x38, 0xEF53);
    for (const auto& [at, length] : ext::kSettled) store_bytes(after, at, slice(copy, at, length));
    if (const std::uint32_t needed = le32(copy, ext::kNeededAt);
        ext::is_needed_doubted(le32(own, ext::kNeededAt), needed))
      store_le32(after, ext::kNeededAt, needed | (le32(own, ext::kNeededAt) & ext::kRecover));
    std::size_t wrong = 0;
    for (std::size_t i = 0; i < own.size(); ++i) wrong += own[i] != after[i] ? 1u : 0u;
    if (wrong == 0 || wrong > kMaxWrong) return false;
    propose("ext.superblock", Certainty::certain,
            fmt::format("{} bytes of the superblock, from its copy at byte {} of the volume", wrong,
                        place),
            "they are figures that never change, and the copy has others", ext::kSuperblockPlace,
            own, after);
    return true;
  }

  void superblock(const std::vector<Superblock>& supers) {
    const Bytes own = read_bytes(bytes_, ext::kSuperblockPlace, ext::kSuperblockBytes);
    if (own.size() < ext::kSuperblockBytes) return;
    const auto copy = std::find_if(supers.begin(), supers.end(), [](const Superblock& s) {
      return s.place != ext::kSuperblockPlace && s.sum_is_right;
    });
    if (copy == supers.end()) {
      note("the superblock has a wrong checksum, and there is no copy");
      return;
    }
    Bytes after = read_bytes(bytes_, copy->place, ext::kSuperblockBytes);
    if (!super_.has(ext::kMetadataSums) && settled(own, after, copy->place)) return;
    store_le16(after, 0x5A, 0);
    const std::uint64_t free_blocks = free_clusters_ * super_.cluster_blocks;
    store_le32(after, 0x0C, free_blocks & 0xFFFFFFFF);
    if (super_.has(ext::kWide)) store_le32(after, 0x158, free_blocks >> 32);
    store_le32(after, 0x10, free_inodes_);
    store_le16(after, 0x3A, 1);
    const ext::Volume opened{volume_.bytes, make_cached(volume_.bytes, context_), super_,
                             bytes_.size(), context_};
    const std::uint32_t needed = le32(after, ext::kNeededAt) & ~std::uint32_t{ext::kRecover};
    store_le32(after, ext::kNeededAt, ext::journal_waits(opened) ? needed | ext::kRecover : needed);
    // What cannot be counted, and its own still says where the rest of it is believable.
    if (le16(own, 0x38) == 0xEF53 &&
        std::equal(own.begin() + 0x68, own.begin() + 0x78, after.begin() + 0x68)) {
      for (const auto& [at, length] : {std::pair<std::size_t, std::size_t>{0x2C, 8},
                                       {0x34, 2},
                                       {0x40, 4},
                                       {0x88, 64},
                                       {0x174, 8}})
        store_bytes(after, at, slice(own, at, length));
    }
    if (super_.has(ext::kMetadataSums))
      store_le32(after, ext::kSuperblockSumAt,
                 crc32c_chain(~0u, ByteView(after).first(ext::kSuperblockSumAt)));
    RepairStep step;
    step.code = "ext.superblock";
    step.certainty = Certainty::certain;
    step.what =
        fmt::format("the superblock, from its copy at byte {} of the volume{}", copy->place,
                    in_journal_ && copy->place == in_journal_->place ? ", in the journal" : "");
    step.evidence =
        "it is invalid, or its checksum is wrong; what is free is counted from the group "
        "descriptors";
    change(step, ext::kSuperblockPlace, own, after);
    add(std::move(step));
  }

  const Context& context_;
  Superblock super_;
  bool looked_ = false;  // for a journal
  std::optional<Superblock> in_journal_;
  std::optional<ext::LooseHistory> history_;
  std::uint64_t free_clusters_ = 0;
  std::uint64_t free_inodes_ = 0;
};

}  // namespace

void diagnose_ext(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                  const Context& context) {
  ExtDiagnosis(disk, volume, diagnosis, context).run();
}

}  // namespace lantern::repair
