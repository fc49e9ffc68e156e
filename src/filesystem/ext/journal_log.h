// The journal of a volume as a file of blocks (layout: journal.h).
#pragma once

#include <optional>
#include <vector>

#include "filesystem/ext/block_map.h"

namespace lantern::ext {

constexpr std::uint32_t kJournalMark = 0xC03B3998;
// Kinds of its own blocks: tags of the blocks that follow, the end of a transaction, blocks that
// are not to be written any more.
constexpr std::uint32_t kJournalTags = 1, kJournalCommit = 2, kJournalRevoke = 5;
constexpr std::size_t kJournalHead = 12;          // bytes
constexpr std::uint64_t kMaxJournal = 16u << 20;  // blocks

// What a transaction says of a block that follows.
struct JournalTag {
  std::uint64_t block = 0;  // of the volume
  std::uint32_t flags = 0;
  std::uint32_t checksum = 0;
};

// What the journal lies in: a device of its own, or the volume.
const SourcePtr& journal_bytes(const Volume& volume);

// False where it cannot be read as a whole. `place`: block of what the journal lies in.
bool read_journal(const Volume& volume, std::uint64_t place, std::span<std::byte> out);

// Thread-safety: constant. `volume` must outlive it.
class JournalLog {
 public:
  // Empty where the volume has no journal, or a damaged one: reported when its head is wrong.
  static std::optional<JournalLog> open(const Volume& volume);

  std::uint64_t first() const { return first_; }
  std::uint64_t count() const { return count_; }
  std::uint64_t next(std::uint64_t index) const { return index + 1 < count_ ? index + 1 : first_; }
  // Block of what the journal lies in.
  std::uint64_t place(std::uint64_t index) const {
    return volume_->journal ? index : places_[static_cast<std::size_t>(index)];
  }
  bool read(std::uint64_t index, std::span<std::byte> out) const;
  std::vector<JournalTag> tags_of(ByteView block) const;
  // Bits of the checksum that each block has: 32, 16, or 0.
  unsigned sum_bits() const;
  // Whether a block is what its tag says; where there are no checksums it only must not be a block
  // of the journal's own. `of`: the sequence of the transaction.
  bool fits(const JournalTag& tag, std::uint32_t of, ByteView block) const;
  std::vector<std::uint64_t> revoked_by(ByteView block) const;

  bool has_fast_commits() const;
  std::uint32_t sequence = 0;  // expected first
  std::uint64_t start = 0;     // where that is, 0: nothing is to do

 private:
  explicit JournalLog(const Volume& volume) : volume_(&volume) {}
  // False: the volume has no journal.
  bool find_blocks();

  const Volume* volume_;
  std::uint32_t features_ = 0;
  std::vector<std::uint64_t> places_;  // in the volume; of a device of its own they need no list
  std::uint64_t block_count_ = 0;
  std::uint64_t head_ = 0;  // where its own superblock stands
  std::uint64_t count_ = 0;
  std::uint64_t first_ = 0;
  std::uint32_t seed_ = ~0u;
};

}  // namespace lantern::ext
