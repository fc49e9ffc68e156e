#include "filesystem/ext/deleted/inode_history.h"

#include <algorithm>

namespace lantern::ext {
namespace {

constexpr std::size_t kMaxVersions = 16;  // of one inode

// Whether two records of one inode speak of the same content.
bool same_content(const Inode& a, const Inode& b) {
  return a.map == b.map && a.size_bytes == b.size_bytes && a.flags == b.flags;
}

}  // namespace

std::optional<Inode> inode_now(const Volume& volume, std::uint32_t number) {
  auto inode = volume.inode(number);
  if (!inode || !inode->kind() || inode->links == 0 || inode->deleted != 0) return std::nullopt;
  return inode;
}

InodeTables::InodeTables(const Volume& volume) : volume_(volume) {
  for (const InodeTable& table : volume.loose_tables) tables_.emplace(table.offset, table);
  const std::uint64_t of_group = volume.super.inodes_per_group;
  for (std::uint32_t group = 0; group < volume.groups_here(); ++group) {
    if (group % 1024 == 0) volume.context.check_cancelled();
    const auto holder = volume.group(group);
    if (!holder) continue;
    const std::uint64_t offset = volume.block_place(holder->inode_table);
    tables_.emplace(offset, InodeTable{offset, group * of_group + 1, of_group});
  }
}

std::vector<InodeTable> InodeTables::written() const {
  std::vector<InodeTable> all;
  for (const auto& [offset, table] : tables_) {
    InodeTable& part = all.emplace_back(table);
    if (!volume_.loose_tables.empty()) continue;
    const auto holder =
        volume_.group(volume_.group_of_inode(static_cast<std::uint32_t>(part.first)));
    const std::uint64_t unused = holder ? holder->unused_inodes : part.count;
    part.count -= std::min(part.count, unused);
  }
  return all;
}

std::optional<std::uint32_t> InodeTables::first_inode_of(std::uint64_t block) const {
  const std::uint64_t place = volume_.block_place(block);
  auto table = tables_.upper_bound(place);
  if (table == tables_.begin()) return std::nullopt;
  --table;
  const std::uint64_t index = (place - table->first) / volume_.super.inode_bytes;
  if (index >= table->second.count) return std::nullopt;
  const std::uint64_t number = table->second.first + index;
  if (number > volume_.super.inode_count) return std::nullopt;
  return static_cast<std::uint32_t>(number);
}

// use(number, record, the record as it lies now, sequence)
template <typename Use>
void InodeHistories::each_record(const History& history, const InodeTables& tables, Use use) const {
  Bytes then(volume_.super.block_bytes);
  Bytes now(volume_.super.block_bytes);
  const std::size_t step = volume_.super.inode_bytes;
  for (const JournalCopy& copy : history.copies) {
    const auto first = tables.first_inode_of(copy.block);
    if (!first || !read_copy(volume_, copy, then)) continue;
    volume_.context.check_cancelled();
    std::fill(now.begin(), now.end(), std::byte{0});
    volume_.read_block(copy.block, now);
    for (std::size_t at = 0; at + step <= then.size(); at += step) {
      const auto number = static_cast<std::uint32_t>(*first + at / step);
      if (number < kFirstOwnInode || number > volume_.super.inode_count) continue;
      const ByteView record = ByteView(then).subspan(at, step);
      if (!all_zero(record)) use(number, record, ByteView(now).subspan(at, step), copy.sequence);
    }
  }
}

InodeHistories::InodeHistories(const Volume& volume, const History& history,
                               const InodeTables& tables)
    : volume_(volume) {
  // Most inodes of a journal are what they were: those are not kept.
  each_record(
      history, tables, [&](std::uint32_t number, ByteView then, ByteView now, std::uint32_t) {
        if (changed_.contains(number)) return;
        if (std::equal(then.begin(), then.end(), now.begin()) && le16(now, 0x1A) != 0) return;
        const Inode before = parse_inode(volume_.super, number, then);
        if (!before.sum_is_right || !before.kind()) return;
        const auto current = inode_now(volume_, number);
        if (!current || current->generation != before.generation || !same_content(*current, before))
          changed_.insert(number);
      });
  each_record(history, tables,
              [&](std::uint32_t number, ByteView then, ByteView, std::uint32_t sequence) {
                if (changed_.contains(number))
                  learn(parse_inode(volume_.super, number, then), sequence);
              });
  settle();
}

void InodeHistories::learn(const Inode& inode, std::uint32_t sequence) {
  if (!inode.sum_is_right || !inode.kind()) return;
  OfInode& histories = histories_[inode.number];
  // Another life of the same number ends those before it.
  for (auto& [generation, life] : histories)
    if (generation != inode.generation && life.died == 0) life.died = sequence;
  InodeHistory& life = histories[inode.generation];
  if (life.first_seen == 0) life.first_seen = sequence;
  if (inode.links == 0 || inode.deleted != 0) {
    if (life.died == 0) life.died = sequence;
    return;
  }
  life.died = 0;
  if (!life.inode || !same_content(*life.inode, inode)) {
    if (life.inode && life.inode->has_content() && life.older.size() < kMaxVersions)
      life.older.push_back({*life.inode, life.content_since, life.last_alive});
    life.content_since = sequence;
  }
  life.last_alive = sequence;
  life.inode = inode;
}

// What is alive now has not died, whatever was seen of it.
void InodeHistories::settle() {
  for (auto& [number, histories] : histories_) {
    const auto current = inode_now(volume_, number);
    if (!current) continue;
    const auto alive = histories.find(current->generation);
    if (alive == histories.end()) continue;
    InodeHistory& life = alive->second;
    if (life.inode && life.inode->has_content() && !same_content(*life.inode, *current))
      life.older.push_back({*life.inode, life.content_since, life.last_alive});
    life.inode.reset();
    life.died = 0;
  }
}

std::size_t InodeHistories::count(std::uint32_t number) const {
  const auto found = histories_.find(number);
  return found == histories_.end() ? 0 : found->second.size();
}

std::optional<std::uint32_t> InodeHistories::generation_at(std::uint32_t number,
                                                           std::uint32_t sequence) const {
  const auto found = histories_.find(number);
  if (found == histories_.end()) return std::nullopt;
  const OfInode& histories = found->second;
  std::optional<std::uint32_t> best;
  std::uint32_t best_first = 0;
  for (const auto& [generation, life] : histories) {
    if (sequence == 0 && histories.size() == 1) return generation;
    const bool began = life.first_seen <= sequence;
    const bool lasted = life.died == 0 || sequence <= life.died;
    if (began && lasted && (!best || life.first_seen >= best_first)) {
      best = generation;
      best_first = life.first_seen;
    }
  }
  // Before it was first seen: the only life there is.
  const InodeHistory& only = histories.begin()->second;
  if (!best && histories.size() == 1 && (only.died == 0 || sequence <= only.died))
    best = histories.begin()->first;
  return best;
}

}  // namespace lantern::ext
