#include "container/vhdx/vhdx.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/store.h"
#include "container/chain.h"
#include "container/mapped_disk.h"
#include "container/mend.h"
#include "container/vhdx/header.h"
#include "container/vhdx/layout.h"
#include "container/vhdx/log.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace vhdx;

constexpr std::uint64_t kMiB = 1u << 20;

enum State : unsigned {
  kNotPresent = 0,
  kUndefined = 1,
  kZero = 2,
  kUnmapped = 3,
  kPresent = 6,
  kPartlyPresent = 7
};

class VhdxMap final : public BlockMap {
 public:
  VhdxMap(const SourcePtr& file, std::uint64_t table_offset, const VhdxMetadata& metadata,
          const Context& context)
      : tables_(make_cached(file, context)),
        table_(tables_, table_offset, kEntryBytes),
        metadata_(metadata),
        chunk_blocks_(kChunkSectors * metadata.sector_bytes / metadata.block_bytes),
        context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(table_.room() - table_.room() / (chunk_blocks_ + 1),
                          metadata_.block_bytes);
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t block_bytes = metadata_.block_bytes;
    const std::uint64_t last_block = (range.end() - 1) / block_bytes;
    // Payload entries lie together up to the end of a chunk.
    for (std::uint64_t block = range.offset / block_bytes; block <= last_block;) {
      const std::uint64_t chunk = block / chunk_blocks_;
      const std::uint64_t last = std::min(last_block, (chunk + 1) * chunk_blocks_ - 1);
      const bool going =
          table_.each(block + chunk, last + chunk, [&](std::uint64_t index, ByteView entry) {
            const std::uint64_t own = index - chunk;
            return block_runs(own, entry, intersect(range, {own * block_bytes, block_bytes}),
                              visit);
          });
      if (!going) return false;
      block = last + 1;
    }
    return true;
  }

 private:
  bool block_runs(std::uint64_t block, ByteView entry, Range range, const RunVisitor& visit) const {
    if (entry.empty()) {
      context_.report(FindingCode::container_table, Severity::damage,
                      {table_.place_of(block + block / chunk_blocks_), kEntryBytes},
                      "vhdx: the block table cannot be read here",
                      "its blocks are treated as unreadable");
      return visit({Run::Kind::lost, range});
    }
    const std::uint64_t value = le64(entry, 0);
    const std::uint64_t place = value >> kPlaceShift << kPlaceShift;
    const std::uint64_t data = place + range.offset % metadata_.block_bytes;
    switch (value & kStateMask) {
      case kNotPresent:
        return visit({Run::Kind::absent, range});
      case kUndefined:
      case kZero:
      case kUnmapped:
        return visit({Run::Kind::zero, range});
      case kPresent:
        check_end(block, place);
        return visit({Run::Kind::stored, range, data});
      case kPartlyPresent:
        check_end(block, place);
        return by_bitmap(block, place, range, visit);
      default:
        break;
    }
    context_.report(
        FindingCode::container_table, Severity::damage,
        {table_.place_of(block + block / chunk_blocks_), kEntryBytes},
        fmt::format("vhdx: block {} has the state {}, which is invalid", block, value & kStateMask),
        "the block is treated as unreadable");
    return visit({Run::Kind::lost, range});
  }

  void check_end(std::uint64_t block, std::uint64_t place) const {
    const std::uint64_t from = block * metadata_.block_bytes;
    const std::uint64_t needed = std::min(metadata_.block_bytes, metadata_.disk_bytes - from);
    if (place > tables_->size() || needed > tables_->size() - place)
      context_.report(FindingCode::container_past_end, Severity::damage, {from, needed},
                      fmt::format("vhdx: block {} points to byte {} of the file, which "
                                  "has {}",
                                  block, place, tables_->size()),
                      "what is not in the file is treated as unreadable");
  }

  // Where the bitmap of this chunk's sectors lies; empty when it is not there.
  std::optional<std::uint64_t> bitmap_of(std::uint64_t chunk) const {
    std::optional<std::uint64_t> place;
    const std::uint64_t index = (chunk + 1) * (chunk_blocks_ + 1) - 1;
    table_.each(index, index, [&](std::uint64_t, ByteView entry) {
      if (!entry.empty() && (le64(entry, 0) & kStateMask) == kPresent)
        place = le64(entry, 0) >> kPlaceShift << kPlaceShift;
      return true;
    });
    return place;
  }

  bool by_bitmap(std::uint64_t block, std::uint64_t place, Range range,
                 const RunVisitor& visit) const {
    const auto bitmap = bitmap_of(block / chunk_blocks_);
    if (!bitmap) {
      context_.report(FindingCode::container_table, Severity::damage,
                      {block * metadata_.block_bytes, metadata_.block_bytes},
                      fmt::format("vhdx: block {} is partly present, but the bitmap that says "
                                  "which sectors are is lost",
                                  block),
                      "the block is treated as unreadable");
      return visit({Run::Kind::lost, range});
    }
    const std::uint64_t sector = metadata_.sector_bytes;
    const std::uint64_t chunk_start = block / chunk_blocks_ * chunk_blocks_ * metadata_.block_bytes;
    const std::uint64_t block_start = block * metadata_.block_bytes;
    const EntryTable bits(tables_, *bitmap, 1);
    const std::uint64_t first = (range.offset - chunk_start) / sector;
    const std::uint64_t last = (range.end() - 1 - chunk_start) / sector;
    return bits.each(first / 8, last / 8, [&](std::uint64_t byte, ByteView eight) {
      for (std::uint64_t i = 0; i < 8; ++i) {
        const Range part = intersect(range, {chunk_start + (byte * 8 + i) * sector, sector});
        if (part.empty()) continue;
        Run run{Run::Kind::lost, part};
        if (!eight.empty()) {
          run.kind = (u8(eight, 0) >> i & 1) != 0 ? Run::Kind::stored : Run::Kind::absent;
          run.file_offset = place + (part.offset - block_start);
        }
        if (!visit(run)) return false;
      }
      return true;
    });
  }

  SourcePtr tables_;
  EntryTable table_;
  VhdxMetadata metadata_;
  std::uint64_t chunk_blocks_;
  Context context_;
};

// Blocks whose entry says they hold nothing now, but keeps their place.
void add_given_up(const SourcePtr& file, std::uint64_t table_offset, std::uint64_t entries,
                  std::uint64_t block_bytes, std::vector<Range>& taken) {
  constexpr std::uint64_t kMaxEntries = 1u << 20;
  const EntryTable table(file, table_offset, kEntryBytes);
  const std::uint64_t count = std::min(entries, table.room());
  if (count == 0 || count > kMaxEntries) return;
  table.each(0, count - 1, [&](std::uint64_t, ByteView entry) {
    if (entry.empty()) return true;
    const std::uint64_t state = le64(entry, 0) & kStateMask;
    const std::uint64_t place = le64(entry, 0) >> kPlaceShift << kPlaceShift;
    if (place != 0 && state >= kUndefined && state <= kUnmapped)
      taken.push_back({place, block_bytes});
    return true;
  });
}

bool looks_like_vhdx(const ByteSource& file) {
  Bytes sign(8);
  if (file.read(0, sign).length == 8 && has_text(sign, 0, kMark)) return true;
  // The first sector may be lost: two structures of it must stand then.
  unsigned found = 0;
  for (const auto& [places, mark] :
       {std::pair(kHeadersAt, header::kMark), std::pair(kRegionsAt, regions::kMark)})
    for (const std::uint64_t at : places)
      if (file.read(at, sign).length == 8 && has_text(sign, 0, mark)) ++found;
  return found >= 2;
}

}  // namespace

std::optional<std::string> vhdx_identity(const ByteSource& file) {
  if (!looks_like_vhdx(file)) return std::nullopt;
  const auto header = read_vhdx_header(file, nullptr);
  return header ? std::optional(header->data_id) : std::nullopt;
}

std::optional<Container> open_vhdx(const SourcePtr& file, const Surroundings& around,
                                   const Context& context) {
  if (!looks_like_vhdx(*file)) return std::nullopt;
  Bytes sign(8);
  file->read(0, sign);
  if (!has_text(sign, 0, kMark))
    context.report(FindingCode::container_header, Severity::warning, {0, 8},
                   "vhdx: the mark at the start of the file is lost",
                   "it is known by its headers and region tables");
  const auto header = read_vhdx_header(*file, &context);
  const SourcePtr whole =
      header ? replay_vhdx_log(file, header->log, header->log_id, context) : file;
  const VhdxRegions regions = read_vhdx_regions(*whole, context);
  if (regions.metadata.empty() || regions.table.empty())
    throw Error(ErrorCode::cannot_read, context.address, 192u << 10,
                "vhdx: both region tables are lost: the place of the block table is not known",
                "look at the file with ::bytes");
  const VhdxMetadata metadata = read_vhdx_metadata(*whole, regions.metadata, context);
  const std::uint64_t blocks = divide_up(metadata.disk_bytes, metadata.block_bytes);
  const std::uint64_t chunk = kChunkSectors * metadata.sector_bytes / metadata.block_bytes;
  const std::uint64_t entries = blocks + (blocks - 1) / chunk;
  if (entries * kEntryBytes > regions.table.length)
    context.report(FindingCode::container_table, Severity::damage, regions.table,
                   fmt::format("vhdx: {} blocks need a table of {} bytes; {} are recorded", blocks,
                               entries * kEntryBytes, regions.table.length),
                   "it is read as long as it has to be");
  Container container;
  container.format = "vhdx";
  container.variant = metadata.has_parent ? "differencing" : metadata.fixed ? "fixed" : "dynamic";
  container.id = header ? header->data_id : metadata.id;
  container.stored_bytes = file->size();
  std::shared_ptr<const BlockMap> map =
      std::make_shared<VhdxMap>(whole, regions.table.offset, metadata, context);
  const std::shared_ptr<const BlockMap> as_stored = map;
  if (!metadata.has_parent) {
    OneTable table;
    table.format = "vhdx";
    table.disk_bytes = metadata.disk_bytes;
    table.block_bytes = metadata.block_bytes;
    table.blocks = {kMiB, whole->size() - std::min(whole->size(), kMiB)};
    table.taken = {regions.table, regions.metadata};
    if (header) table.taken.push_back(header->log);
    add_given_up(whole, regions.table.offset, entries, metadata.block_bytes, table.taken);
    table.whole = {regions.table.offset, entries * kEntryBytes};
    table.entry = [at = regions.table.offset, chunk](std::uint64_t block) {
      return Range{at + (block + block / chunk) * kEntryBytes, kEntryBytes};
    };
    table.entry_for = [](std::optional<std::uint64_t> place) {
      constexpr std::uint64_t kPresent = 6;
      Bytes entry(kEntryBytes);
      store_le64(entry, 0, place ? *place | kPresent : 0);
      return entry;
    };
    map = mend_block_table(whole, std::move(map), table, around, context);
  }
  MappedParts parts{whole,   std::move(map), metadata.disk_bytes, metadata.sector_bytes,
                    nullptr, false};
  // What a log has yet to write out has to be written first.
  if (header && whole == file && parts.map == as_stored)
    parts.writer = [file] { return make_vhdx_writer(file); };
  if (metadata.has_parent) {
    Parent parent =
        open_parent({metadata.parent_names, metadata.parent_id, false}, around, context);
    parts.parent = parent.flat;
    parts.parent_missing = parent.missing;
    container.chain = std::move(parent.chain);
  }
  container.flat = make_mapped_disk(std::move(parts), context);
  return container;
}

}  // namespace lantern
