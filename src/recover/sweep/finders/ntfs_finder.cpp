#include "recover/sweep/finders/ntfs_finder.h"

#include <algorithm>

#include "base/checked.h"
#include "recover/sweep/finders/quick_look.h"

namespace lantern {
namespace {

constexpr std::uint32_t kFile = 0x454C4946;   // "FILE"
constexpr std::uint32_t kIndex = 0x58444E49;  // "INDX"
constexpr std::size_t kMinRecord = 512, kMaxRecord = 4096;
constexpr std::uint64_t kMaxNumber = std::uint64_t{1} << 32;
constexpr std::uint64_t kReferenceMask = 0xFFFFFFFFFFFF;

}  // namespace

void NtfsFinder::look(const SweptPiece& piece) {
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    const std::uint32_t mark = quick_le32(piece.bytes.data() + at);
    if (mark == kFile)
      record(piece.offset + at, piece.bytes.subspan(at));
    else if (mark == kIndex)
      index_block(piece.offset + at, piece.bytes.subspan(at));
  }
}

void NtfsFinder::record(std::uint64_t offset, ByteView bytes) {
  const std::size_t guards = le16(bytes, 4), guard_count = le16(bytes, 6);
  const std::size_t first = le16(bytes, 0x14);
  const std::uint64_t used = le32(bytes, 0x18), length = le32(bytes, 0x1C);
  const bool can_be = is_power_of_two(length) && length >= kMinRecord && length <= kMaxRecord &&
                      used <= length && used >= first && first >= 0x28 && first % 8 == 0 &&
                      guards >= 0x28 && guards < first && guard_count >= 2 &&
                      guard_count <= kMaxRecord / kSector + 1;
  if (!can_be) return;
  const bool numbered = guards >= 0x30;
  add({offset, numbered ? le32(bytes, 0x2C) : 0, 1, length, numbered});
}

void NtfsFinder::add(const RecordRun& run) {
  if (run.numbered && run.number >= kMaxNumber) return;
  if (!runs_.empty()) {
    RecordRun& last = runs_.back();
    const bool behind = last.end() == run.offset && last.record_bytes == run.record_bytes;
    const bool counts_on = !last.numbered || !run.numbered
                               ? last.numbered || run.number >= last.count
                               : last.number + last.count == run.number;
    if (behind && (counts_on || (!last.numbered && !run.numbered))) {
      if (!last.numbered && run.numbered) {
        last.number = run.number - last.count;
        last.numbered = true;
      }
      last.count += run.count;
      records_ += run.count;
      return;
    }
    // Of what never told its number nothing can be made.
    if (!last.numbered) {
      records_ -= last.count;
      runs_.pop_back();
    }
  }
  if (runs_.size() < kMaxRuns) {
    runs_.push_back(run);
    records_ += run.count;
  } else {
    capped_ = true;
  }
}

bool NtfsFinder::can_be(const RecordRun& run) {
  constexpr std::uint64_t kMaxOffset = std::uint64_t{1} << 62;
  return is_power_of_two(run.record_bytes) && run.record_bytes >= kMinRecord &&
         run.record_bytes <= kMaxRecord && run.count > 0 && run.count <= kMaxNumber &&
         run.number <= kMaxNumber && run.offset <= kMaxOffset;
}

void NtfsFinder::join(Finder& later) {
  const auto& other = static_cast<NtfsFinder&>(later);
  for (const RecordRun& run : other.runs_) add(run);
  capped_ = capped_ || other.capped_;
  blocks_.join(other.blocks_);
}

void NtfsFinder::load(Database& database, std::uint64_t swept_to) {
  Statement rows = database.prepare(
      "SELECT offset, number, count, record_bytes FROM record_run WHERE offset < ? ORDER BY "
      "offset");
  rows.bind(1, swept_to);
  while (rows.step()) {
    const RecordRun run{rows.number(0), rows.number(1), rows.number(2), rows.number(3)};
    if (can_be(run)) add(run);
  }
  written_ = runs_.size();
  Statement indexes = database.prepare(
      "SELECT offset, folder, vcn FROM index_block WHERE offset < ? ORDER BY offset");
  indexes.bind(1, swept_to);
  while (indexes.step()) blocks_.add({indexes.number(0), indexes.number(1), indexes.number(2)});
  blocks_.each_new([](const IndexBlock&) {});
}

std::uint64_t NtfsFinder::save(Database& database, std::uint64_t swept_to) {
  Statement add = database.prepare("INSERT OR REPLACE INTO record_run VALUES(?, ?, ?, ?)");
  // The last one may have grown.
  for (std::size_t i = written_ - std::min<std::size_t>(written_, 1); i < runs_.size(); ++i) {
    const RecordRun& run = runs_[i];
    if (!run.numbered) {
      swept_to = std::min(swept_to, run.offset);
      break;
    }
    add.bind(1, run.offset).bind(2, run.number).bind(3, run.count).bind(4, run.record_bytes).run();
  }
  written_ = runs_.size();
  Statement index = database.prepare("INSERT OR IGNORE INTO index_block VALUES(?, ?, ?)");
  blocks_.each_new([&](const IndexBlock& block) {
    index.bind(1, block.offset).bind(2, block.folder).bind(3, block.vcn).run();
  });
  return swept_to;
}

std::vector<CatalogFinder::Count> NtfsFinder::counts() const {
  return {{"NTFS records", records_}};
}

void NtfsFinder::index_block(std::uint64_t offset, ByteView bytes) {
  constexpr std::size_t kNode = 0x18, kKey = 0x10, kMinEntry = 0x52;
  const std::size_t entry = kNode + le32(bytes, kNode);
  if (entry < 0x28 || entry + kMinEntry > kSector || entry + kMinEntry > bytes.size()) return;
  if (le16(bytes, entry + 8) < kMinEntry || le16(bytes, entry + 0x0A) < kMinEntry - kKey) return;
  blocks_.add({offset, le64(bytes, entry + kKey) & kReferenceMask, le64(bytes, 0x10)});
}

}  // namespace lantern
