#include "filesystem/ntfs/index.h"

#include <algorithm>

namespace lantern::ntfs {
namespace {

constexpr std::size_t kEntryHeader = 0x10;
constexpr std::size_t kLeastName = 0x44;  // of one unit
constexpr std::size_t kNodeHeader = 0x18;
constexpr std::uint64_t kMostIndexBytes = 1u << 30;
constexpr std::size_t kMostFound = 1'000'000;

bool can_be_name(const std::string& text) {
  return std::none_of(text.begin(), text.end(),
                      [](char c) { return static_cast<unsigned char>(c) < 0x20 || c == '/'; });
}

}  // namespace

void SlackNames::scan(ByteView bytes, std::size_t from, const File& folder) {
  for (std::size_t at = (from + 7) / 8 * 8; at + kLeastName <= bytes.size(); at += 8) {
    const Reference in = reference_at(bytes, at);
    if (in.record != folder.number ||
        (in.sequence != folder.sequence &&
         static_cast<std::uint16_t>(in.sequence + 1) != folder.sequence))
      continue;
    auto name = parse_file_name(bytes.subspan(at));
    if (!name || name->space > 3 || name->space == kShortSpace || !name->created ||
        !can_be_name(name->text))
      continue;
    Found found{std::move(*name), std::nullopt};
    const std::size_t length = 0x42 + std::size_t{u8(bytes, at + 0x40)} * 2;
    if (at >= from + kEntryHeader && le16(bytes, at - kEntryHeader + 0x0A) == length)
      found.file = reference_at(bytes, at - kEntryHeader);
    if (by_birth_.size() >= kMostFound) return;
    const std::pair key(found.name.created->seconds, found.name.created->nanoseconds);
    by_birth_.emplace(key, std::move(found));
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
  const std::uint64_t size = std::min({bytes->size(), kMostIndexBytes, left_to_read_});
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

std::optional<GivenName> SlackNames::of(const File& file) const {
  if (!file.created) return std::nullopt;
  const Stream* const data = file.find(kData);
  const std::uint64_t size = data == nullptr ? 0 : data->size_bytes;
  const auto [from, to] = by_birth_.equal_range({file.created->seconds, file.created->nanoseconds});
  const Found* best = nullptr;
  bool by_reference = false;
  for (auto at = from; at != to; ++at) {
    const Found& found = at->second;
    const bool names_it = found.file && found.file->record == file.number &&
                          (found.file->sequence == file.sequence ||
                           static_cast<std::uint16_t>(found.file->sequence + 1) == file.sequence);
    if (found.file && !names_it) continue;
    if (by_reference && !names_it) continue;
    if (!names_it && !file.folder && found.name.size_bytes != size) continue;
    // Two that differ say nothing.
    if (best != nullptr && by_reference == names_it && best->name.text != found.name.text)
      return std::nullopt;
    best = &found;
    by_reference = names_it;
  }
  if (best == nullptr) return std::nullopt;
  return GivenName{best->name.text, best->name.folder,
                   by_reference ? "its name in the slack of its folder's index"
                                : "its name in the slack of a folder's index, by its times"};
}

}  // namespace lantern::ntfs
