#include "kit/shadow_builder.h"

#include <algorithm>

namespace lantern::kit {
namespace {

constexpr std::size_t kLinesOfBlock = 20;  // so that lists have several blocks

Bytes block_of(std::uint32_t kind, std::uint64_t next) {
  Bytes block(ShadowBuilder::kBlock);
  std::size_t at = 0;
  for (const unsigned byte : {0x6Bu, 0x87u, 0x08u, 0x38u, 0x76u, 0xC1u, 0x48u, 0x4Eu, 0xB7u, 0xAEu,
                              0x04u, 0x04u, 0x6Eu, 0x6Cu, 0xC7u, 0x52u})
    put(block, at++, byte, 1);
  put(block, 0x10, 2, 4);
  put(block, 0x14, kind, 4);
  put(block, 0x28, next, 8);
  return block;
}

}  // namespace

void ShadowBuilder::keep_copy(std::uint64_t time, const std::set<std::size_t>& unneeded) {
  Copy& copy = copies_.emplace_back();
  copy.time = time;
  copy.unneeded = unneeded;
}

Bytes ShadowBuilder::part(std::size_t block) const {
  const auto from = volume_.begin() + static_cast<std::ptrdiff_t>(block * kBlock);
  return {from, from + kBlock};
}

std::uint64_t ShadowBuilder::put_aside(const Bytes& content) {
  const std::uint64_t place = volume_.size() + kept_.size();
  put_bytes(kept_, kept_.size(), content);
  return place;
}

void ShadowBuilder::keep(std::size_t block) {
  if (copies_.empty()) return;
  Copy& copy = copies_.back();
  const bool of_moved = copy.moved_to.erase(block) > 0;
  if (!of_moved && !copy.whole.insert(block).second) return;
  copy.lines.push_back({block, 0, put_aside(part(block)), 0, 0});
}

void ShadowBuilder::write(std::size_t block, const Bytes& content) {
  keep(block);
  put_bytes(volume_, block * kBlock, content);
}

void ShadowBuilder::write_sectors(std::size_t at, const Bytes& content) {
  const std::size_t block = at / kBlock;
  if (!copies_.empty() && !copies_.back().whole.contains(block)) {
    std::uint32_t& kept = copies_.back().sectors[block];
    std::uint32_t sectors = 0;
    for (std::size_t i = 0; i < content.size() / 512; ++i) sectors |= 1u << (at % kBlock / 512 + i);
    sectors &= ~kept;
    kept |= sectors;
    if (sectors != 0) {
      const std::uint64_t place = put_aside(part(block));
      copies_.back().lines.push_back({block, 0, place, 2, sectors});
    }
  } else {
    keep(block);
  }
  put_bytes(volume_, at, content);
}

void ShadowBuilder::move(std::size_t from, std::size_t to) {
  if (from == to) return;
  const Bytes content = part(from);
  keep(to);
  put_bytes(volume_, to * kBlock, content);
  if (copies_.empty()) return;
  Copy& copy = copies_.back();
  const bool of_moved = copy.moved_to.erase(from) > 0;
  if (!of_moved && !copy.whole.insert(from).second) return;
  copy.lines.push_back({from, to * kBlock, 0, 1, 0});
  copy.moved_to.insert(to);
}

std::size_t ShadowBuilder::lists_of(const Copy& copy) const {
  return copy.lines.size() / kLinesOfBlock + 1;
}

std::uint64_t ShadowBuilder::place_of_list(std::size_t copy) const {
  std::uint64_t place = volume_.size() + kept_.size();
  for (std::size_t i = 0; i < copy; ++i) place += (lists_of(copies_[i]) + 2) * kBlock;
  return place;
}

Bytes ShadowBuilder::bytes() const {
  Bytes bytes = volume_;
  put_bytes(bytes, bytes.size(), kept_);
  const std::uint64_t catalog = place_of_list(copies_.size());
  Bytes entries = block_of(2, 0);
  for (std::size_t i = 0; i < copies_.size(); ++i) {
    const Copy& copy = copies_[i];
    const std::size_t count = lists_of(copy);
    for (std::size_t list = 0; list < count; ++list) {
      const bool last = list + 1 == count;
      Bytes block = block_of(3, last ? 0 : bytes.size() + kBlock);
      for (std::size_t n = 0; n < kLinesOfBlock; ++n) {
        if (list * kLinesOfBlock + n >= copy.lines.size()) break;
        const Line& line = copy.lines[list * kLinesOfBlock + n];
        const std::size_t at = 0x80 + n * 0x20;
        put(block, at, line.block * kBlock, 8);
        put(block, at + 8, line.relative, 8);
        put(block, at + 0x10, line.place, 8);
        put(block, at + 0x18, line.flags, 4);
        put(block, at + 0x1C, line.sectors, 4);
      }
      put_bytes(bytes, bytes.size(), block);
    }
    Bytes store = block_of(4, 0);
    put(store, 0x90, copy.time, 4);
    put(store, 0x9F, 0xAA, 1);
    put_bytes(bytes, bytes.size(), store);
    Bytes bitmap = block_of(6, 0);
    for (const std::size_t block : copy.unneeded)
      bitmap[0x80 + block / 8] |= static_cast<std::byte>(1 << block % 8);
    put_bytes(bytes, bytes.size(), bitmap);
    const std::size_t entry = 0x80 + i * 0x100;
    put(entries, entry, 2, 8);
    put(entries, entry + 8, volume_.size(), 8);
    put(entries, entry + 0x10, i + 1, 8);
    put(entries, entry + 0x30, 130'000'000'000'000'000 + copy.time * 10'000'000, 8);
    put(entries, entry + 0x80, 3, 8);
    put(entries, entry + 0x88, place_of_list(i), 8);
    put(entries, entry + 0x90, i + 1, 8);
    put(entries, entry + 0xA0, bytes.size() - 2 * kBlock, 8);
    put(entries, entry + 0xB0, bytes.size() - kBlock, 8);
  }
  put_bytes(bytes, static_cast<std::size_t>(catalog), entries);
  Bytes head = block_of(1, 0);
  head.resize(512);
  put(head, 0x30, copies_.empty() ? 0 : catalog, 8);
  put_bytes(bytes, 0x1E00, head);
  return bytes;
}

}  // namespace lantern::kit
