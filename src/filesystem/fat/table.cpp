#include "filesystem/fat/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <unordered_set>

namespace lantern::fat {
namespace {

constexpr std::uint64_t kPageEntries = 16384;  // a whole number of bytes in every width
constexpr std::size_t kGroupEntries = 128;
// Kept in the bits a FAT32 entry does not use: the cluster is in use in some copy.
constexpr std::uint32_t kUsedSomewhere = 0x80000000;
constexpr std::uint32_t kValueBits = 0x0FFFFFFF;

}  // namespace

Table::Table(SourcePtr volume, const Geometry& geometry, const Context& context)
    : volume_(std::move(volume)),
      geometry_(geometry),
      context_(context),
      number_(context.cache->new_source_number()),
      top_(geometry.width == Width::fat12   ? 0xFFFu
           : geometry.width == Width::fat16 ? 0xFFFFu
                                            : 0x0FFFFFFFu) {}

std::uint64_t Table::entry_offset(std::uint32_t cluster) const {
  return geometry_.table_offset +
         std::uint64_t{cluster} * static_cast<unsigned>(geometry_.width) / 8;
}

Link Table::classify(std::uint32_t value) const {
  value &= kValueBits;
  if (value == 0) return Link::free;
  if (value >= top_ - 7) return Link::last;
  if (value == top_ - 8) return Link::bad;
  return geometry_.valid_cluster(value) ? Link::next : Link::invalid;
}

std::vector<std::uint32_t> Table::decode(std::uint32_t copy, std::uint64_t first,
                                         std::size_t count) const {
  const auto bits = static_cast<unsigned>(geometry_.width);
  Bytes raw((count * bits + 7) / 8);
  volume_->read(geometry_.table_offset + copy * geometry_.table_bytes + first * bits / 8, raw);
  std::vector<std::uint32_t> values(count);
  for (std::size_t i = 0; i < count; ++i) {
    if (geometry_.width == Width::fat32)
      values[i] = le32(raw, i * 4) & kValueBits;
    else if (geometry_.width == Width::fat16)
      values[i] = le16(raw, i * 2);
    else  // two entries in three bytes; pages begin on an even one
      values[i] = i % 2 == 0 ? u8(raw, i / 2 * 3) | (u8(raw, i / 2 * 3 + 1) & 0x0Fu) << 8
                             : static_cast<std::uint32_t>(u8(raw, i / 2 * 3 + 1) >> 4 |
                                                          u8(raw, i / 2 * 3 + 2) << 4);
  }
  return values;
}

// Where a group of entries differs, the copy that makes more sense gives it: the one with fewer
// impossible entries, or the one that was not overwritten with one and the same value. Where
// neither stands out, an entry that is free or impossible in one copy is taken from the other: a
// cluster with a successor was written by somebody.
void Table::merge(std::uint64_t first, std::vector<std::uint32_t>& kept,
                  const std::vector<std::uint32_t>& other) const {
  std::size_t differing_groups = 0;
  std::size_t first_differing = 0;
  for (std::size_t from = 0; from < kept.size(); from += kGroupEntries) {
    const std::size_t to = std::min(from + kGroupEntries, kept.size());
    Difference difference;
    for (std::size_t i = from; i < to; ++i)
      if (kept[i] != other[i] && first + i >= 2) difference.add(kept[i], other[i], *this);
    if (difference.entries == 0) continue;
    if (differing_groups++ == 0) first_differing = from;
    const int preferred = difference.preferred();
    for (std::size_t i = from; i < to; ++i) {
      const std::uint32_t used = kept[i] != 0 || other[i] != 0 ? kUsedSomewhere : 0;
      const Link link = classify(kept[i]);
      const bool empty = link == Link::free || link == Link::invalid;
      const Link other_link = classify(other[i]);
      const bool fallback = empty && other_link != Link::free && other_link != Link::invalid;
      const bool take_other = preferred == 0 ? fallback : preferred > 0;
      kept[i] = (take_other ? other[i] : kept[i]) | used;
    }
  }
  if (differing_groups > 0)
    context_.report(
        FindingCode::fat_copies_differ, Severity::damage,
        {entry_offset(static_cast<std::uint32_t>(first + first_differing)), kGroupEntries * 4},
        fmt::format("the two tables differ in {} places of {} entries, first at cluster {}",
                    differing_groups, kGroupEntries, first + first_differing),
        "each place is read from the copy that makes sense");
}

void Table::Difference::add(std::uint32_t kept, std::uint32_t other, const Table& table) {
  bad_kept += table.classify(kept) == Link::invalid;
  bad_other += table.classify(other) == Link::invalid;
  if (entries++ == 0) {
    first_kept = kept;
    first_other = other;
  }
  uniform_kept = uniform_kept && kept == first_kept;
  uniform_other = uniform_other && other == first_other;
}

int Table::Difference::preferred() const {
  if (bad_kept != bad_other) return bad_other < bad_kept ? 1 : -1;
  if (entries > 2 && uniform_kept != uniform_other &&
      (uniform_kept ? first_kept : first_other) != 0)
    return uniform_kept ? 1 : -1;
  return 0;
}

BlockCache::BlockPtr Table::page(std::uint64_t index) const {
  if (auto held = context_.cache->find(number_, index)) return held;
  const std::uint64_t first = index * kPageEntries;
  const auto count = static_cast<std::size_t>(
      std::min<std::uint64_t>(kPageEntries, std::uint64_t{geometry_.cluster_count} + 2 - first));
  const std::uint32_t main_copy = geometry_.only_table.value_or(0);
  std::vector<std::uint32_t> values = decode(main_copy, first, count);
  if (geometry_.table_count > 1 && !geometry_.only_table)
    merge(first, values, decode(1, first, count));
  auto block = std::make_shared<BlockCache::Block>();
  block->bytes.resize(count * sizeof(std::uint32_t));
  std::memcpy(block->bytes.data(), values.data(), block->bytes.size());
  context_.cache->insert(number_, index, block);
  return block;
}

std::uint32_t Table::Cursor::raw(std::uint32_t cluster) {
  const std::uint64_t index = cluster / kPageEntries;
  if (index != page_index_) {
    page_ = table_->page(index);
    page_index_ = index;
  }
  std::uint32_t value = 0;
  std::memcpy(&value, page_->bytes.data() + cluster % kPageEntries * sizeof value, sizeof value);
  return value;
}

Link Table::Cursor::link(std::uint32_t cluster, std::uint32_t& next) {
  const std::uint32_t value = raw(cluster);
  next = value & kValueBits;
  return table_->classify(value);
}

bool Table::Cursor::in_use(std::uint32_t cluster) {
  return raw(cluster) != 0;
}

Chain Table::chain(Cursor& cursor, std::uint32_t first, std::uint64_t most) const {
  Chain chain;
  std::uint32_t cluster = first;
  // Brent's way to see a loop: a mark that is moved up at each power of two.
  std::uint32_t mark = 0;
  std::uint64_t next_mark = 2;
  const auto append = [&](std::uint32_t added) {
    if (!chain.runs.empty() && chain.runs.back().first + chain.runs.back().count == added)
      ++chain.runs.back().count;
    else
      chain.runs.push_back({added, 1});
    ++chain.clusters;
    chain.last_cluster = added;
  };
  while (chain.clusters < most) {
    std::uint32_t next = 0;
    const Link link = geometry_.valid_cluster(cluster) ? cursor.link(cluster, next) : Link::invalid;
    if (link == Link::invalid || link == Link::free || link == Link::bad) {
      chain.end = Chain::End::broken;
      return chain;
    }
    append(cluster);
    if (link == Link::last) return chain;
    if (next == mark || next == cluster) {
      chain.end = Chain::End::loop;
      break;
    }
    if (chain.clusters == next_mark) {
      mark = cluster;
      next_mark *= 2;
    }
    cluster = next;
  }
  if (chain.end != Chain::End::loop) return chain;
  // Again, with every cluster remembered, to end exactly before the first one met twice.
  Chain exact;
  exact.end = Chain::End::loop;
  std::unordered_set<std::uint32_t> seen;
  std::swap(chain, exact);
  cluster = first;
  while (seen.insert(cluster).second) {
    append(cluster);
    std::uint32_t next = 0;
    if (cursor.link(cluster, next) != Link::next) break;
    cluster = next;
  }
  chain.end = Chain::End::loop;
  return chain;
}

std::uint64_t Table::count_in_use() const {
  Cursor cursor(*this);
  std::uint64_t used = 0;
  for (std::uint64_t cluster = 2; cluster < std::uint64_t{geometry_.cluster_count} + 2; ++cluster)
    used += cursor.in_use(static_cast<std::uint32_t>(cluster));
  return used;
}

}  // namespace lantern::fat
