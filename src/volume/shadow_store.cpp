#include "volume/shadow_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <limits>
#include <memory>
#include <unordered_map>
#include <unordered_set>

#include "base/guid.h"
#include "container/mapped_disk.h"
#include "lantern/error.h"

namespace lantern::shadow {
namespace {

constexpr std::array<std::uint8_t, 16> kMark = {0x6B, 0x87, 0x08, 0x38, 0x76, 0xC1, 0x48, 0x4E,
                                                0xB7, 0xAE, 0x04, 0x04, 0x6E, 0x6C, 0xC7, 0x52};
constexpr std::size_t kHeadBytes = 0x80;  // of a block
constexpr std::size_t kNameAt = 0x90;
constexpr std::uint64_t kSectorBytes = 512;
constexpr std::uint32_t kMoved = 1;
constexpr std::uint32_t kSectors = 2;
constexpr std::uint32_t kNotUsed = 4;
constexpr std::size_t kMaxKept = 8'000'000;  // blocks of all stores

// What a store has for a block.
struct Kept {
  std::uint32_t block = 0;
  std::uint32_t sectors = 0;  // 0: all of it; else those of the bits
  std::uint64_t place = 0;    // byte of the volume
  bool moved = false;         // there in the next newer copy
};

using Store = std::vector<Kept>;  // sorted by block; of one block whole ones first

class Reading {
 public:
  Reading(const SourcePtr& volume, const Context& context) : volume_(volume), context_(context) {}

  Store read(std::uint64_t list, std::size_t& room) {
    kept_.clear();
    moved_to_.clear();
    each_entry(volume_, {list, Kind::list, 0x20}, context_, [&](ByteView entry) {
      if (le64(entry, 0) == 0 && le64(entry, 0x10) == 0) return;
      if (room == 0)
        throw Error(ErrorCode::unsupported, context_.address, std::nullopt,
                    fmt::format("its shadow copies keep more than {} blocks", kMaxKept),
                    "open a newer one: it needs fewer");
      --room;
      take(entry);
    });
    std::stable_sort(kept_.begin(), kept_.end(), [](const Kept& a, const Kept& b) {
      return a.block != b.block ? a.block < b.block : (a.sectors != 0) < (b.sectors != 0);
    });
    return std::move(kept_);
  }

 private:
  void take(ByteView entry) {
    const std::uint32_t flags = le32(entry, 0x18);
    const std::uint64_t block = le64(entry, 0) / kBlockBytes;
    if ((flags & kNotUsed) != 0 || block > std::numeric_limits<std::uint32_t>::max()) return;
    Kept kept;
    kept.block = static_cast<std::uint32_t>(block);
    kept.moved = (flags & kMoved) != 0;
    kept.place = std::min(le64(entry, kept.moved ? 8 : 0x10), volume_->size());
    if ((flags & kSectors) != 0) {
      kept.sectors = le32(entry, 0x1C);
      if (kept.sectors != 0) kept_.push_back(kept);
      return;
    }
    // Where a block went is written over in its turn: what is kept is of the one that was moved.
    const auto from = moved_to_.find(block);
    if (from != moved_to_.end()) {
      Kept& first = kept_[from->second];
      first.place = kept.place;
      first.moved = kept.moved;
      moved_to_.erase(from);
      if (kept.moved) moved_to_[kept.place / kBlockBytes] = index_of(first);
      return;
    }
    if (kept.moved) moved_to_[kept.place / kBlockBytes] = kept_.size();
    kept_.push_back(kept);
  }

  std::size_t index_of(const Kept& kept) const {
    return static_cast<std::size_t>(&kept - kept_.data());
  }

  SourcePtr volume_;
  const Context& context_;
  Store kept_;
  std::unordered_map<std::uint64_t, std::size_t> moved_to_;  // block, to the one that lies there
};

// What a copy does not need of the volume.
class Unneeded {
 public:
  void add(const SourcePtr& volume, std::uint64_t bitmap, const Context& context) {
    if (bitmap == 0) return;
    Bytes bits;
    const bool whole =
        each_entry(volume, {bitmap, Kind::bitmap, kBlockBytes - kHeadBytes}, context,
                   [&](ByteView part) { bits.insert(bits.end(), part.begin(), part.end()); });
    if (!whole) bits.clear();
    if (known_)
      for (std::size_t i = 0; i < bits_.size(); ++i)
        bits_[i] &= i < bits.size() ? bits[i] : std::byte{0};
    else
      bits_ = std::move(bits);
    known_ = true;
  }
  bool operator()(std::uint64_t block) const {
    const std::uint64_t byte = block / 8;
    return byte < bits_.size() &&
           (bits_[static_cast<std::size_t>(byte)] >> static_cast<int>(block % 8) & std::byte{1}) !=
               std::byte{0};
  }
  void forget() { bits_.clear(); }

 private:
  Bytes bits_;
  bool known_ = false;
};

class StoresMap final : public BlockMap {
 public:
  StoresMap(std::vector<Store> stores, Unneeded unneeded, std::uint64_t size_bytes)
      : stores_(std::move(stores)), unneeded_(std::move(unneeded)), size_bytes_(size_bytes) {}

  std::uint64_t mapped_bytes() const override { return size_bytes_; }

  bool runs(Range range, const RunVisitor& visit) const override {
    for (std::uint64_t at = range.offset; at < range.end();) {
      const std::uint64_t block = at / kBlockBytes;
      const std::uint64_t end = std::min(alike_until(block), range.end());
      if (!give({at, end - at}, block, visit)) return false;
      at = end;
    }
    return true;
  }

 private:
  static Store::const_iterator from(const Store& store, std::uint64_t block) {
    return std::partition_point(store.begin(), store.end(),
                                [&](const Kept& kept) { return kept.block < block; });
  }

  // The end of what is given as one from `block` on: a kept block, or all up to the next one.
  std::uint64_t alike_until(std::uint64_t block) const {
    std::uint64_t next = size_bytes_ / kBlockBytes + 1;
    for (const Store& store : stores_) {
      const auto kept = from(store, block);
      if (kept == store.end()) continue;
      if (kept->block == block) return (block + 1) * kBlockBytes;
      next = std::min<std::uint64_t>(next, kept->block);
    }
    const bool first = unneeded_(block);
    std::uint64_t end = block + 1;
    while (end < next && unneeded_(end) == first) ++end;
    return end * kBlockBytes;
  }

  bool give(Range range, std::uint64_t block, const RunVisitor& visit) const {
    bool kept_anywhere = false;
    for (const Store& store : stores_) {
      const auto kept = from(store, block);
      kept_anywhere = kept_anywhere || (kept != store.end() && kept->block == block);
    }
    if (kept_anywhere) return resolve(range, range.offset, 0, visit);
    if (unneeded_(block)) return visit({Run::Kind::zero, range});
    return visit({Run::Kind::stored, range, range.offset});
  }

  // `range`, of the disk, lies within one block; its bytes are those at `place` in the state of
  // store `number`.
  bool resolve(Range range, std::uint64_t place, std::size_t number,
               const RunVisitor& visit) const {
    for (; number < stores_.size(); ++number) {
      const Store& store = stores_[number];
      const std::uint64_t block = place / kBlockBytes;
      const std::uint64_t within = place % kBlockBytes;
      auto kept = from(store, block);
      if (kept == store.end() || kept->block != block) continue;
      const Kept* whole = nullptr;
      for (; kept != store.end() && kept->block == block && kept->sectors == 0; ++kept)
        whole = &*kept;
      if (kept != store.end() && kept->block == block)
        return by_sectors(range, place, number, &*kept, whole, visit);
      if (!whole->moved) return visit({Run::Kind::stored, range, whole->place + within});
      place = whole->place + within;
      if (place % kBlockBytes + range.length > kBlockBytes) return visit({Run::Kind::lost, range});
    }
    return visit({Run::Kind::stored, range, place});
  }

  // Sectors that are kept, and between them those of the block as it is kept, or of newer states.
  bool by_sectors(Range range, std::uint64_t place, std::size_t number, const Kept* first,
                  const Kept* whole, const RunVisitor& visit) const {
    const Store& store = stores_[number];
    const Kept* const end = store.data() + store.size();
    for (std::uint64_t done = 0; done < range.length;) {
      const std::uint64_t within = (place + done) % kBlockBytes;
      const std::uint64_t length =
          std::min(kSectorBytes - within % kSectorBytes, range.length - done);
      const Range part{range.offset + done, length};
      const Kept* kept = first;
      const auto has = [&](const Kept& k) { return (k.sectors >> within / kSectorBytes & 1) != 0; };
      while (kept != end && kept->block == first->block && !has(*kept)) ++kept;
      bool going = true;
      if (kept != end && kept->block == first->block)
        going = visit({Run::Kind::stored, part, kept->place + within});
      else if (whole != nullptr && !whole->moved)
        going = visit({Run::Kind::stored, part, whole->place + within});
      else
        going = resolve(part, whole != nullptr ? whole->place + within : place + done, number + 1,
                        visit);
      if (!going) return false;
      done += length;
    }
    return true;
  }

  std::vector<Store> stores_;
  Unneeded unneeded_;
  std::uint64_t size_bytes_;
};

}  // namespace

bool is_block(ByteView bytes, Kind kind) {
  const ByteView mark = std::as_bytes(std::span(kMark));
  return bytes.size() >= kHeadBytes && std::equal(mark.begin(), mark.end(), bytes.begin()) &&
         le32(bytes, 0x14) == static_cast<std::uint32_t>(kind);
}

bool each_entry(const SourcePtr& volume, const Chain& chain, const Context& context,
                const std::function<void(ByteView entry)>& use) {
  Bytes block(kBlockBytes);
  std::unordered_set<std::uint64_t> met;
  for (std::uint64_t at = chain.first; at != 0;) {
    context.check_cancelled();
    const bool is = at < volume->size() && met.insert(at).second &&
                    volume->read(at, block).length == block.size() && is_block(block, chain.kind);
    if (!is) {
      context.report(FindingCode::volume_shadow_copies, Severity::damage, {at, kBlockBytes},
                     "a part of the shadow copies is not there or leads back to itself",
                     "what it tells of is left out of the earlier versions");
      return false;
    }
    for (std::size_t entry = kHeadBytes; entry + chain.entry_bytes <= block.size();
         entry += chain.entry_bytes)
      use(ByteView(block).subspan(entry, chain.entry_bytes));
    at = le64(block, 0x28);
  }
  return true;
}

std::optional<std::string> name_of(const SourcePtr& volume, const StorePlaces& places) {
  Bytes head(kBlockBytes);
  if (places.head == 0 || volume->read(places.head, head).length < head.size() ||
      !is_block(head, Kind::store))
    return std::nullopt;
  return guid_text(head, kNameAt);
}

SourcePtr open_stores(const SourcePtr& volume, const std::vector<StorePlaces>& stores,
                      std::uint64_t size_bytes, const Context& context) {
  std::vector<Store> read;
  std::size_t room = kMaxKept;
  Reading reading(volume, context);
  read.reserve(stores.size());
  for (const StorePlaces& places : stores) read.push_back(reading.read(places.list, room));
  Unneeded unneeded;
  unneeded.add(volume, stores.front().bitmap, context);
  unneeded.add(volume, stores.front().earlier_bitmap, context);
  // The first block is always needed: such a bitmap is none.
  if (unneeded(0)) unneeded.forget();
  MappedParts parts;
  parts.file = volume;
  parts.map = std::make_shared<StoresMap>(std::move(read), std::move(unneeded), size_bytes);
  parts.size_bytes = size_bytes;
  parts.sector_size = volume->logical_sector_size();
  return make_mapped_disk(std::move(parts), context);
}

}  // namespace lantern::shadow
