#include "recover/sweep/catalog_pass.h"

#include <algorithm>
#include <array>
#include <optional>
#include <string_view>
#include <utility>

#include "base/range_set.h"
#include "recover/file_copy.h"

namespace lantern {
namespace {

// Whichever comes first: what a kill costs.
constexpr std::chrono::seconds kBetweenMarks{5};
constexpr std::uint64_t kBytesBetweenMarks = 256u << 20;
constexpr std::size_t kBlock = 64u << 10;  // bytes; what is told of at once
constexpr std::size_t kSample = 512;       // bytes of a block that are counted
// Of so many bytes of chance some 221 values are met; text and programs have fewer.
constexpr std::size_t kValuesOfPacked = 195;

bool looks_packed(ByteView block) {
  std::array<bool, 256> met{};
  std::size_t values = 0;
  for (const std::byte b :
       block.subspan(block.size() / 2).first(std::min(kSample, block.size() / 2)))
    if (!std::exchange(met[std::to_integer<std::size_t>(b)], true)) ++values;
  return values >= kValuesOfPacked;
}

constexpr std::array<std::pair<DiskMap::Kind, std::string_view>, DiskMap::kKinds> kNames = {
    {{DiskMap::Kind::zero, "zero"},
     {DiskMap::Kind::data, "data"},
     {DiskMap::Kind::packed, "packed"},
     {DiskMap::Kind::unreadable, "unreadable"}}};

std::optional<DiskMap::Kind> kind_by_name(std::string_view name) {
  for (const auto& [kind, own] : kNames)
    if (own == name) return kind;
  return std::nullopt;
}

std::string_view name_of(DiskMap::Kind kind) {
  return kNames[static_cast<std::size_t>(kind)].second;
}

}  // namespace

CatalogPass::CatalogPass(Catalog& catalog, std::vector<CatalogFinder*> finders)
    : catalog_(catalog),
      finders_(std::move(finders)),
      map_(catalog.facts().range),
      marked_(catalog.swept_to()) {
  for (CatalogFinder* const finder : finders_) finder->load(catalog_.database(), marked_);
  Statement rows = catalog_.database().prepare("SELECT offset, length, kind FROM block");
  while (rows.step())
    if (const auto kind = kind_by_name(rows.text(2)))
      map_.add({rows.number(0), rows.number(1)}, *kind);
}

void BlockFinder::look(const SweptPiece& piece) {
  unreadable.insert(unreadable.end(), piece.unreadable.begin(), piece.unreadable.end());
  end = piece.end();
  RangeSet lost;
  for (const Range& range : piece.unreadable) lost.add(range);
  lost.settle();
  std::size_t length = 0;
  for (std::size_t at = 0; at < piece.owned; at += length) {
    length =
        std::min(kBlock - static_cast<std::size_t>((piece.offset + at) % kBlock), piece.owned - at);
    lost.parts({piece.offset + at, length}, [&](Range part, bool is_lost) {
      if (is_lost) return;
      const ByteView block =
          piece.bytes.subspan(static_cast<std::size_t>(part.offset - piece.offset),
                              static_cast<std::size_t>(part.length));
      blocks.push_back({part, all_zero(block)       ? Kind::zero
                              : looks_packed(block) ? Kind::packed
                                                    : Kind::data});
    });
  }
}

void BlockFinder::join(Finder& later) {
  const auto& other = static_cast<BlockFinder&>(later);
  blocks.insert(blocks.end(), other.blocks.begin(), other.blocks.end());
  unreadable.insert(unreadable.end(), other.unreadable.begin(), other.unreadable.end());
  end = other.end;
}

void CatalogPass::join(Finder& later) {
  const auto& seen = static_cast<BlockFinder&>(later);
  for (const Range& lost : seen.unreadable) {
    add_range(unreadable_, lost);
    map_.add(lost, DiskMap::Kind::unreadable);
  }
  for (const BlockFinder::Block& block : seen.blocks) add_block(block);
  const auto now = std::chrono::steady_clock::now();
  if (now - last_mark_ >= kBetweenMarks ||
      seen.end - std::min(seen.end, marked_) >= kBytesBetweenMarks)
    mark(seen.end);
}

void CatalogPass::add_block(const BlockFinder::Block& block) {
  map_.add(block.range, block.kind);
  if (block.kind == block_.kind && block_.range.end() == block.range.offset) {
    block_.range.length += block.range.length;
    return;
  }
  write_block();
  block_ = block;
}

void CatalogPass::write_block() {
  if (!block_.range.empty()) blocks_.push_back(block_);
  block_ = {};
}

void CatalogPass::mark(std::uint64_t swept_to) {
  write_block();
  Database& database = catalog_.database();
  catalog_.begin();
  Statement block = database.prepare("INSERT OR REPLACE INTO block VALUES(?, ?, ?)");
  for (const BlockFinder::Block& row : blocks_)
    block.bind(1, row.range.offset).bind(2, row.range.length).bind(3, name_of(row.kind)).run();
  Statement unreadable =
      database.prepare("INSERT OR REPLACE INTO block VALUES(?, ?, 'unreadable')");
  for (const Range& range : unreadable_)
    unreadable.bind(1, range.offset).bind(2, range.length).run();
  for (CatalogFinder* const finder : finders_) swept_to = finder->save(database, swept_to);
  catalog_.set_fact("swept_to", std::to_string(swept_to));
  catalog_.commit();
  blocks_.clear();
  unreadable_.clear();
  marked_ = swept_to;
  last_mark_ = std::chrono::steady_clock::now();
}

void CatalogPass::join_blocks() {
  Database& database = catalog_.database();
  std::vector<std::pair<Range, std::string>> joined;
  Statement rows = database.prepare("SELECT offset, length, kind FROM block ORDER BY offset");
  while (rows.step()) {
    const Range range{rows.number(0), rows.number(1)};
    const std::string kind = rows.text(2);
    if (!joined.empty() && joined.back().first.end() == range.offset &&
        joined.back().second == kind)
      joined.back().first.length += range.length;
    else
      joined.emplace_back(range, kind);
  }
  catalog_.begin();
  database.run("DELETE FROM block");
  Statement add = database.prepare("INSERT INTO block VALUES(?, ?, ?)");
  for (const auto& [range, kind] : joined)
    add.bind(1, range.offset).bind(2, range.length).bind(3, kind).run();
  catalog_.commit();
}

}  // namespace lantern
