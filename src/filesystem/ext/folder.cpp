#include "filesystem/ext/folder.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/crc32c.h"
#include "filesystem/ext/attributes.h"

namespace lantern::ext {
namespace {

constexpr std::size_t kEntryHead = 8;
constexpr std::uint8_t kChecksum = 0xDE;
constexpr std::size_t kTail = 12;
constexpr std::uint8_t kMaxType = 7;

std::size_t length_at(ByteView block, std::size_t at) {
  const std::size_t length = le16(block, at + 4);
  // In blocks of 64 KiB the whole block does not fit the field.
  if (block.size() > 0xFFFF && (length == 0 || length == 0xFFFF)) return block.size() - at;
  return length;
}

std::size_t name_bytes_at(const Volume& volume, ByteView block, std::size_t at) {
  return volume.super.has(kFileType) ? u8(block, at + 6) : le16(block, at + 6);
}

constexpr std::size_t room_for(std::size_t name_bytes) {
  return (kEntryHead + name_bytes + 3) / 4 * 4;
}

// Whether an entry can begin here.
bool is_entry(const Volume& volume, ByteView block, std::size_t at) {
  if (at + kEntryHead > block.size()) return false;
  const std::size_t length = length_at(block, at);
  if (length < kEntryHead || length % 4 != 0 || length > block.size() - at) return false;
  const std::uint32_t inode = le32(block, at);
  if (inode == 0) return true;
  return volume.valid_inode(inode) && room_for(name_bytes_at(volume, block, at)) <= length;
}

FolderEntry entry_at(const Volume& volume, ByteView block, std::size_t at) {
  FolderEntry entry;
  entry.inode = le32(block, at);
  entry.name = text_of(slice(block, at + kEntryHead, name_bytes_at(volume, block, at)));
  entry.type = volume.super.has(kFileType) ? u8(block, at + 7) : std::uint8_t{0};
  entry.at = at;
  return entry;
}

bool is_name(std::string_view name) {
  return !name.empty() && name != "." && name != ".." &&
         std::none_of(name.begin(), name.end(), [](char c) { return c == '/' || c == '\0'; });
}

// Entries in a stretch no entry uses: each must look like one in all it says.
void read_removed(const Volume& volume, ByteView block, std::size_t from, std::size_t to,
                  std::vector<FolderEntry>& found) {
  while (from + room_for(1) <= to) {
    if (is_entry(volume, block.first(to), from) && le32(block, from) != 0 &&
        name_bytes_at(volume, block, from) > 0 &&
        (!volume.super.has(kFileType) ||
         (u8(block, from + 7) >= 1 && u8(block, from + 7) <= kMaxType))) {
      FolderEntry entry = entry_at(volume, block, from);
      if (is_name(entry.name)) {
        from += room_for(entry.name.size());
        found.push_back(std::move(entry));
        continue;
      }
    }
    from += 4;
  }
}

// The next place from which entries reach the end of the block without a break.
std::size_t next_whole(const Volume& volume, ByteView block, std::size_t from) {
  for (std::size_t at = from + 4; at + kEntryHead <= block.size(); at += 4) {
    std::size_t end = at;
    while (end < block.size() && is_entry(volume, block, end)) end += length_at(block, end);
    if (end == block.size() && le32(block, at) != 0) return at;
  }
  return block.size();
}

}  // namespace

FolderBlock parse_folder_block(const Volume& volume, ByteView block, bool with_removed) {
  FolderBlock result;
  for (std::size_t at = 0; at + kEntryHead <= block.size();) {
    if (!is_entry(volume, block, at)) {
      result.whole = false;
      at = next_whole(volume, block, at);
      continue;
    }
    const std::size_t length = length_at(block, at);
    const std::uint32_t inode = le32(block, at);
    if (inode == 0 && length == kTail && u8(block, at + 7) == kChecksum) break;
    std::size_t used = 0;
    if (inode != 0) {
      used = room_for(name_bytes_at(volume, block, at));
      FolderEntry entry = entry_at(volume, block, at);
      if (!entry.name.empty()) result.entries.push_back(std::move(entry));
    }
    if (with_removed && used < length)
      read_removed(volume, block, at + used, at + length, result.removed);
    at += length;
  }
  return result;
}

bool is_folder_block(const Volume& volume, ByteView block) {
  std::size_t at = 0;
  bool any = false;
  while (at < block.size()) {
    if (!is_entry(volume, block, at)) return false;
    if (le32(block, at) != 0) {
      const std::size_t bytes = name_bytes_at(volume, block, at);
      if (bytes == 0 || u8(block, at + 7) > kMaxType) return false;
      any = true;
    } else if (u8(block, at + 7) == kChecksum) {
      any = any || at > 0;
    }
    at += length_at(block, at);
  }
  return any;
}

FolderReader::FolderReader(const Volume& volume, const Inode& inode)
    : volume_(&volume), number_(inode.number) {
  if (inode.has(kInline))
    inline_parts_ = inline_folder(volume, inode);
  else
    map_ = map_blocks(volume, inode);
  const std::uint64_t most = inode.size_bytes / volume.super.block_bytes;
  // Blocks behind the folder's end are none of its own.
  while (!map_.runs.empty() && map_.runs.back().logical >= most) map_.runs.pop_back();
}

bool FolderReader::load() {
  next_ = 0;
  block_ = {};
  if (!inline_parts_.empty()) {
    if (run_ == inline_parts_.size()) return false;
    if (run_ > 0) block_start_ += inline_parts_[run_ - 1].size();
    block_ = parse_folder_block(*volume_, inline_parts_[run_++], false);
    return true;
  }
  while (run_ < map_.runs.size()) {
    const BlockRun& run = map_.runs[run_];
    if (in_run_ >= run.here(*volume_) || run.unwritten) {
      ++run_;
      in_run_ = 0;
      continue;
    }
    volume_->context.check_cancelled();
    const std::uint64_t physical = run.physical + in_run_;
    block_start_ = (run.logical + in_run_) * volume_->super.block_bytes;
    ++in_run_;
    Bytes bytes(volume_->super.block_bytes);
    const Range place{volume_->block_place(physical), bytes.size()};
    const bool read = volume_->read_block(physical, bytes);
    block_ = parse_folder_block(*volume_, bytes, false);
    if (!read || !block_.whole)
      volume_->context.report(FindingCode::ext_folder, Severity::damage, place,
                              fmt::format("a block of the folder of inode {} {}", number_,
                                          read ? "is corrupt" : "cannot be read"),
                              "the entries that can be are listed");
    return true;
  }
  return false;
}

const FolderEntry* FolderReader::next() {
  while (next_ == block_.entries.size())
    if (!load()) return nullptr;
  const FolderEntry& entry = block_.entries[next_++];
  place_ = block_start_ + entry.at;
  return &entry;
}

}  // namespace lantern::ext
