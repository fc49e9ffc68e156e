#include "filesystem/ntfs/deleted/index.h"

#include <algorithm>

#include "filesystem/ntfs/bitmap.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kEntryHeader = 0x10;
constexpr std::size_t kMinName = 0x44;  // of one unit
constexpr std::size_t kNodeHeader = 0x18;
constexpr std::uint64_t kMaxIndexBytes = 1u << 30;
constexpr std::size_t kMaxFound = 250'000;

}  // namespace

void SlackNames::scan(ByteView bytes, std::size_t from, const File& folder) {
  for (std::size_t at = (from + 7) / 8 * 8; at + kMinName <= bytes.size(); at += 8) {
    const Reference in = reference_at(bytes, at);
    if (in.record != folder.number ||
        (in.sequence != folder.sequence &&
         static_cast<std::uint16_t>(in.sequence + 1) != folder.sequence))
      continue;
    Trace trace;
    if (!trace_of_name(bytes.subspan(at), trace)) continue;
    trace.order = le64(bytes, at + 0x18);  // when its record was last changed
    const std::size_t length = 0x42 + std::size_t{u8(bytes, at + 0x40)} * 2;
    if (at >= from + kEntryHeader && le16(bytes, at - kEntryHeader + 0x0A) == length)
      sink_(reference_at(bytes, at - kEntryHeader), std::move(trace));
    else if (by_birth_.size() < kMaxFound)
      by_birth_.emplace(trace.created, std::move(trace));
  }
}

void SlackNames::read(std::uint64_t number) {
  const auto record = volume_.record(number);
  if (!record) return;
  const File folder = volume_.file_of(number, *record);
  scan(record->bytes, record->used, folder);
  const Stream* const buffers = folder.find(kIndexAllocation, "$I30");
  if (buffers == nullptr) return;
  const SourcePtr bytes = volume_.bytes_of(*buffers, volume_.raw);
  const std::uint64_t size = std::min({bytes->size(), kMaxIndexBytes, left_to_read_});
  left_to_read_ -= size;
  Bytes node(volume_.geometry.index_bytes);
  for (std::uint64_t at = 0; at + node.size() <= size; at += node.size()) {
    node.resize(volume_.geometry.index_bytes);
    bytes->read(at, node);
    bool torn = false;
    if (!has_text(node, 0, "INDX") || !restore_sectors(node, torn)) continue;
    scan(node, kNodeHeader + std::min<std::size_t>(le32(node, 0x1C), node.size()), folder);
  }
}

// Whose index it was is in its entries: only those whose heads are whole count.
void SlackNames::scan_freed(std::uint64_t place) {
  Bytes node(volume_.geometry.index_bytes);
  if (volume_.raw->read(place, node).length < node.size()) return;
  bool torn = false;
  if (!restore_sectors(node, torn)) return;
  const ByteView bytes = node;
  for (std::size_t at = kNodeHeader + kEntryHeader; at + kMinName <= bytes.size(); at += 8) {
    const std::size_t length = 0x42 + std::size_t{u8(bytes, at + 0x40)} * 2;
    const Reference file = reference_at(bytes, at - kEntryHeader);
    if (le16(bytes, at - kEntryHeader + 0x0A) != length || file.sequence == 0 ||
        file.record >= volume_.records())
      continue;
    Trace trace;
    if (!trace_of_name(bytes.subspan(at), trace)) continue;
    trace.order = le64(bytes, at + 0x18);
    sink_(file, std::move(trace));
  }
}

void SlackNames::read_freed() {
  const ClusterBitmap bitmap(volume_);
  const std::uint64_t cluster = volume_.geometry.cluster_bytes;
  const std::uint64_t step = std::min<std::uint64_t>(cluster, volume_.geometry.index_bytes);
  constexpr std::uint64_t kMaxPiece = 1u << 20;
  std::uint64_t left = kMaxFreed;
  Bytes piece;
  for (std::uint64_t from = 0; from < bitmap.cluster_count() && left > 0;) {
    const auto [end, in_use] = bitmap.alike(from, bitmap.cluster_count());
    for (std::uint64_t at = from * cluster; !in_use && at < end * cluster && left > 0;) {
      volume_.context.check_cancelled();
      const Range part{at, std::min({kMaxPiece, end * cluster - at, left})};
      at = part.end();
      if (known_zero(*volume_.raw, part)) continue;
      left -= part.length;
      piece.resize(static_cast<std::size_t>(part.length));
      piece.resize(volume_.raw->read(part.offset, piece).length);
      for (std::size_t i = 0; i + 4 <= piece.size(); i += static_cast<std::size_t>(step))
        if (has_text(piece, i, "INDX")) scan_freed(part.offset + i);
    }
    if (end <= from) break;
    from = end;
  }
}

const Trace* SlackNames::of(const File& file) const {
  if (!file.created) return nullptr;
  const Stream* const data = file.find(kData);
  const std::uint64_t size = data == nullptr ? 0 : data->size_bytes;
  const auto [from, to] = by_birth_.equal_range(stored_since_1601(*file.created));
  const Trace* best = nullptr;
  for (auto at = from; at != to; ++at) {
    const Trace& found = at->second;
    if (!file.folder && found.size_bytes != size) continue;
    // Two that differ say nothing.
    if (best != nullptr && best->name != found.name) return nullptr;
    best = &found;
  }
  return best;
}

}  // namespace lantern::ntfs
