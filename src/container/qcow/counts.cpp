#include "container/qcow/counts.h"

#include <algorithm>

#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern::qcow {

Counts::Counts(const SourcePtr& file, const Qcow2Header& header)
    : file_(file),
      header_(header),
      per_block_(header.cluster_bytes() * 8 / header.count_bits),
      end_(round_up(file->size(), header.cluster_bytes())) {}

std::uint64_t Counts::take(std::uint64_t clusters) {
  const std::uint64_t bytes = header_.cluster_bytes();
  std::uint64_t at = end_;
  // A block of counts that is made for them lies there, too: then they come behind it.
  for (bool moved = true; moved; moved = at != end_, at = end_)
    for (std::uint64_t i = at / bytes / per_block_; i <= (at / bytes + clusters - 1) / per_block_;
         ++i)
      block_of(i);
  end_ += clusters * bytes;
  for (std::uint64_t i = 0; i < clusters; ++i) change(at + i * bytes, +1);
  return at;
}

void Counts::give_back(std::uint64_t at) {
  if (header_.count_bits >= 8) change(at / header_.cluster_bytes() * header_.cluster_bytes(), -1);
}

void Counts::write_grown(std::vector<LayerWrite>& writes) const {
  for (const auto& [index, block] : blocks_)
    if (block.fresh) writes.push_back({file_, block.at, block.bytes, false});
  for (const auto& [index, block] : blocks_)
    if (block.fresh)
      writes.push_back({file_, header_.counts_offset + index * 8, be_entry(block.at), true});
  for (const auto& [at, bytes] : changed(true)) writes.push_back({file_, at, bytes, false});
}

void Counts::write_shrunk(std::vector<LayerWrite>& writes) const {
  bool first = true;
  for (const auto& [at, bytes] : changed(false)) {
    writes.push_back({file_, at, bytes, first});
    first = false;
  }
}

void Counts::change(std::uint64_t cluster_at, int by) {
  const std::uint64_t cluster = cluster_at / header_.cluster_bytes();
  const std::uint64_t index = cluster / per_block_;
  Block& block = block_of(index);
  const std::uint64_t within = cluster % per_block_;
  const std::uint64_t count = get(block.bytes, within);
  if (by < 0 && count == 0) return;  // it was not counted: nothing to give back
  set(block.bytes, within, by > 0 ? count + 1 : count - 1);
  if (!block.fresh) changes_.push_back({index, within, by > 0});
}

Counts::Block& Counts::block_of(std::uint64_t index) {
  if (const auto known = blocks_.find(index); known != blocks_.end()) return known->second;
  if (index >= header_.counts_clusters * header_.cluster_bytes() / 8)
    throw Error(ErrorCode::unsupported, {}, header_.counts_offset,
                "qcow2: its table of reference counts has no room for more clusters",
                {Do::image, " it as qcow2, and repair that"});
  const std::uint64_t at =
      be64(read_exactly(*file_, header_.counts_offset + index * 8, 8), 0) & kOffsetMask;
  Block block;
  if (at != 0) {
    block = {at, read_exactly(*file_, at, static_cast<std::size_t>(header_.cluster_bytes())),
             false};
    return blocks_.emplace(index, std::move(block)).first->second;
  }
  block = {end_, Bytes(static_cast<std::size_t>(header_.cluster_bytes())), true};
  end_ += header_.cluster_bytes();
  Block& added = blocks_.emplace(index, std::move(block)).first->second;
  // Its own count may stand in itself, or in the block of what lies there.
  change(added.at, +1);
  return added;
}

// Counts below a byte share one, the low bits first.
std::uint64_t Counts::get(ByteView bytes, std::uint64_t within) const {
  const unsigned bits = header_.count_bits;
  const auto at = static_cast<std::size_t>(within * bits / 8);
  if (bits < 8) return u8(bytes, at) >> (within * bits % 8) & ((1u << bits) - 1);
  std::uint64_t value = 0;
  for (unsigned i = 0; i < bits / 8; ++i) value = value << 8 | u8(bytes, at + i);
  return value;
}

void Counts::set(Bytes& bytes, std::uint64_t within, std::uint64_t value) const {
  const unsigned bits = header_.count_bits;
  const auto at = static_cast<std::size_t>(within * bits / 8);
  if (bits < 64 && value >> bits != 0)
    throw Error(ErrorCode::unsupported, {}, std::nullopt, "qcow2: a reference count is full",
                {Do::image, " it as qcow2, and repair that"});
  if (bits < 8) {
    const auto shift = static_cast<unsigned>(within * bits % 8);
    const unsigned mask = ((1u << bits) - 1) << shift;
    bytes[at] =
        static_cast<std::byte>((u8(bytes, at) & ~mask) | (static_cast<unsigned>(value) << shift));
    return;
  }
  for (unsigned i = bits / 8; i-- > 0; value >>= 8) bytes[at + i] = static_cast<std::byte>(value);
}

// The counts of old blocks that changed, each as the bytes it stands in.
std::map<std::uint64_t, Bytes> Counts::changed(bool up) const {
  std::map<std::uint64_t, Bytes> bytes;
  for (const Change& change : changes_) {
    if (change.up != up) continue;
    const Block& block = blocks_.at(change.block);
    const auto at = static_cast<std::size_t>(change.within * header_.count_bits / 8);
    const ByteView part = slice(block.bytes, at, std::max(1u, header_.count_bits / 8));
    bytes[block.at + at] = Bytes(part.begin(), part.end());
  }
  return bytes;
}

}  // namespace lantern::qcow
