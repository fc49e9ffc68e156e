#include "filesystem/ntfs/deleted/index.h"

#include <algorithm>

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
