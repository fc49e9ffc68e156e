#include "recover/sweep/catalog_pass.h"

#include <algorithm>
#include <array>
#include <utility>

#include "lantern/format/registry.h"
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

}  // namespace

CatalogPass::CatalogPass(Catalog& catalog, VolumeFinder& volumes, NtfsFinder& ntfs, FatFinder& fat)
    : catalog_(catalog), volumes_(volumes), ntfs_(ntfs), fat_(fat) {
  Statement hits = catalog_.database().prepare("SELECT offset, format FROM hit ORDER BY offset");
  while (hits.step())
    if (const Format* const format = known_formats().find(hits.text(1)))
      volumes_.hits.push_back({format, hits.number(0)});
  Statement rows = catalog_.database().prepare(
      "SELECT offset, number, count, record_bytes FROM record_run ORDER BY offset");
  // A catalog may have been edited: figures that no finder gives are left out.
  while (rows.step()) {
    const RecordRun run{rows.number(0), rows.number(1), rows.number(2), rows.number(3)};
    if (NtfsFinder::can_be(run)) ntfs_.runs.push_back(run);
  }
  Statement indexes =
      catalog_.database().prepare("SELECT offset, folder, vcn FROM index_block ORDER BY offset");
  while (indexes.step())
    ntfs_.blocks.push_back({indexes.number(0), indexes.number(1), indexes.number(2)});
  Statement heads = catalog_.database().prepare(
      "SELECT offset, cluster, parent FROM folder_head ORDER BY offset");
  while (heads.step())
    if (const auto cluster = static_cast<std::uint32_t>(heads.number(1)); cluster >= 2)
      fat_.heads.push_back({heads.number(0), cluster, static_cast<std::uint32_t>(heads.number(2))});
  written_heads_ = fat_.heads.size();
  marked_ = catalog_.swept_to();
  written_hits_ = volumes_.hits.size();
  written_runs_ = ntfs_.runs.size();
  written_blocks_ = ntfs_.blocks.size();
}

void BlockFinder::look(const SweptPiece& piece) {
  unreadable = piece.unreadable;
  end = piece.end();
  std::size_t length = 0;
  for (std::size_t at = 0; at < piece.owned; at += length) {
    length =
        std::min(kBlock - static_cast<std::size_t>((piece.offset + at) % kBlock), piece.owned - at);
    const ByteView block = piece.bytes.subspan(at, length);
    blocks.push_back({{piece.offset + at, length},
                      all_zero(block)       ? Kind::zero
                      : looks_packed(block) ? Kind::packed
                                            : Kind::data});
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
  for (const Range& lost : seen.unreadable) add_range(unreadable_, lost);
  for (const BlockFinder::Block& block : seen.blocks) add_block(block);
  const auto now = std::chrono::steady_clock::now();
  if (now - last_mark_ >= kBetweenMarks ||
      seen.end - std::min(seen.end, marked_) >= kBytesBetweenMarks)
    mark(seen.end);
}

void CatalogPass::add_block(const BlockFinder::Block& block) {
  if (block.kind == block_.kind && block_.range.end() == block.range.offset) {
    block_.range.length += block.range.length;
    return;
  }
  write_block();
  block_ = block;
}

void CatalogPass::write_block() {
  if (block_.kind != BlockFinder::Kind::none) blocks_.push_back(block_);
  block_.kind = BlockFinder::Kind::none;
}

void CatalogPass::mark(std::uint64_t swept_to) {
  write_block();
  Database& database = catalog_.database();
  catalog_.begin();
  Statement block = database.prepare("INSERT OR REPLACE INTO block VALUES(?, ?, ?)");
  for (const BlockFinder::Block& row : blocks_)
    block.bind(1, row.range.offset)
        .bind(2, row.range.length)
        .bind(3, row.kind == BlockFinder::Kind::zero     ? "zero"
                 : row.kind == BlockFinder::Kind::packed ? "packed"
                                                         : "data")
        .run();
  Statement unreadable =
      database.prepare("INSERT OR REPLACE INTO block VALUES(?, ?, 'unreadable')");
  for (const Range& range : unreadable_)
    unreadable.bind(1, range.offset).bind(2, range.length).run();
  Statement hit = database.prepare("INSERT OR IGNORE INTO hit VALUES(?, ?)");
  for (; written_hits_ < volumes_.hits.size(); ++written_hits_)
    hit.bind(1, volumes_.hits[written_hits_].offset)
        .bind(2, volumes_.hits[written_hits_].format->name)
        .run();
  Statement run = database.prepare("INSERT OR REPLACE INTO record_run VALUES(?, ?, ?, ?)");
  // The last one may have grown.
  for (std::size_t i = written_runs_ - std::min<std::size_t>(written_runs_, 1);
       i < ntfs_.runs.size(); ++i) {
    const RecordRun& each = ntfs_.runs[i];
    if (!each.numbered) {
      swept_to = std::min(swept_to, each.offset);
      break;
    }
    run.bind(1, each.offset).bind(2, each.number).bind(3, each.count).bind(4, each.record_bytes);
    run.run();
  }
  written_runs_ = ntfs_.runs.size();
  Statement index = database.prepare("INSERT OR IGNORE INTO index_block VALUES(?, ?, ?)");
  for (; written_blocks_ < ntfs_.blocks.size(); ++written_blocks_) {
    const IndexBlock& each = ntfs_.blocks[written_blocks_];
    index.bind(1, each.offset).bind(2, each.folder).bind(3, each.vcn).run();
  }
  Statement head = database.prepare("INSERT OR IGNORE INTO folder_head VALUES(?, ?, ?)");
  for (; written_heads_ < fat_.heads.size(); ++written_heads_) {
    const FolderHead& each = fat_.heads[written_heads_];
    head.bind(1, each.offset).bind(2, std::uint64_t{each.cluster});
    head.bind(3, std::uint64_t{each.parent}).run();
  }
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
