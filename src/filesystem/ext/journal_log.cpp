#include "filesystem/ext/journal_log.h"

#include <algorithm>
#include <array>

#include "base/crc32c.h"
#include "base/store.h"
#include "filesystem/ext/journal.h"

namespace lantern::ext {
namespace {

// Features.
constexpr std::uint32_t kWideNumbers = 0x2, kOldSums = 0x8, kSums = 0x10, kFastCommits = 0x20;
constexpr std::uint32_t kSameUuid = 2, kLastTag = 8;  // flags of a tag

}  // namespace

const SourcePtr& journal_bytes(const Volume& volume) {
  return volume.journal ? volume.journal : volume.raw;
}

bool read_journal(const Volume& volume, std::uint64_t place, std::span<std::byte> out) {
  const ReadResult got = journal_bytes(volume)->read(volume.block_place(place), out);
  return got.length == out.size() && got.unreadable.empty();
}

std::optional<JournalLog> JournalLog::open(const Volume& volume) {
  JournalLog log(volume);
  if (!volume.super.has(kHasJournal) || !log.find_blocks()) return std::nullopt;
  Bytes head(volume.super.block_bytes);
  if (!log.read(log.head_, head) || !is_journal_start(head) ||
      be32(head, 0x0C) != volume.super.block_bytes) {
    volume.context.report(
        FindingCode::ext_journal, Severity::damage,
        {log.places_.empty() ? 0 : volume.block_place(log.places_[0]), head.size()},
        "the journal does not begin as one", "it is left out");
    return std::nullopt;
  }
  log.count_ = std::min<std::uint64_t>(be32(head, 0x10), log.block_count_);
  log.first_ = be32(head, 0x14);
  log.sequence = be32(head, 0x18);
  log.start = be32(head, 0x1C);
  if (be32(head, 4) == 4) {
    log.features_ = be32(head, 0x28);
    log.seed_ = crc32c_chain(~0u, slice(head, 0x30, 16));
  }
  // Fast commits take the end of the log for themselves.
  if (log.has_fast_commits()) {
    const std::uint64_t own = be32(head, 0x54) == 0 ? 256 : be32(head, 0x54);
    if (own < log.count_) log.count_ -= own;
  }
  if (log.first_ == 0 || log.first_ >= log.count_ || log.start >= log.count_) return std::nullopt;
  return log;
}

bool JournalLog::read(std::uint64_t index, std::span<std::byte> out) const {
  if (index >= block_count_) return false;
  if (!volume_->journal && !volume_->valid_block(place(index))) return false;
  return read_journal(*volume_, place(index), out);
}

std::vector<JournalTag> JournalLog::tags_of(ByteView block) const {
  std::vector<JournalTag> tags;
  const bool sums = (features_ & kSums) != 0;
  const bool wide = (features_ & kWideNumbers) != 0;
  const std::size_t bytes = sums ? 16 : wide ? 12 : 8;
  for (std::size_t at = kJournalHead; at + bytes <= block.size();) {
    JournalTag tag;
    tag.block = be32(block, at);
    if (sums) {
      tag.flags = be32(block, at + 4);
      tag.checksum = be32(block, at + 12);
      if (wide) tag.block |= std::uint64_t{be32(block, at + 8)} << 32;
    } else {
      tag.checksum = be16(block, at + 4);
      tag.flags = be16(block, at + 6);
      if (wide) tag.block |= std::uint64_t{be32(block, at + 8)} << 32;
    }
    at += bytes;
    if ((tag.flags & kSameUuid) == 0) at += 16;
    tags.push_back(tag);
    if ((tag.flags & kLastTag) != 0) break;
  }
  return tags;
}

bool JournalLog::has_fast_commits() const {
  return (features_ & kFastCommits) != 0;
}

unsigned JournalLog::sum_bits() const {
  if ((features_ & kSums) != 0) return 32;
  return (features_ & kOldSums) != 0 ? 16 : 0;
}

bool JournalLog::fits(const JournalTag& tag, std::uint32_t of, ByteView block) const {
  if (sum_bits() == 0) return be32(block, 0) != kJournalMark;
  std::array<std::byte, 4> number{};
  store_be32(number, 0, of);
  const std::uint32_t sum = crc32c_chain(crc32c_chain(seed_, number), block);
  return (sum_bits() == 32 ? sum : sum & 0xFFFF) == tag.checksum;
}

std::vector<std::uint64_t> JournalLog::revoked_by(ByteView block) const {
  std::vector<std::uint64_t> blocks;
  const std::size_t bytes = (features_ & kWideNumbers) != 0 ? 8 : 4;
  const std::size_t end = std::min<std::size_t>(be32(block, kJournalHead), block.size());
  for (std::size_t at = kJournalHead + 4; at + bytes <= end; at += bytes)
    blocks.push_back(bytes == 8 ? be64(block, at) : be32(block, at));
  return blocks;
}

bool JournalLog::find_blocks() {
  if (!volume_->loose_journal.empty()) {
    places_ = volume_->loose_journal;
    block_count_ = places_.size();
    return true;
  }
  if (volume_->journal) {
    head_ = journal_start(volume_->super.block_bytes) / volume_->super.block_bytes;
    block_count_ = std::min(volume_->journal->size() / volume_->super.block_bytes, kMaxJournal);
    return true;
  }
  if (volume_->super.journal_inode == 0) return false;
  const auto inode = volume_->inode(volume_->super.journal_inode);
  if (!inode || !inode->has_content()) return false;
  for (const BlockRun& run : map_blocks(*volume_, *inode).runs)
    for (std::uint64_t i = 0; i < run.count && run.logical + i < kMaxJournal; ++i) {
      places_.resize(static_cast<std::size_t>(run.logical + i + 1));
      places_.back() = run.physical + i;
    }
  block_count_ = places_.size();
  return true;
}

}  // namespace lantern::ext
