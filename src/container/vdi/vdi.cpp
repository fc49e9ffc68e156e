#include "container/vdi/vdi.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/guid.h"
#include "base/store.h"
#include "container/chain.h"
#include "container/mapped_disk.h"
#include "container/mend.h"
#include "container/vdi/layout.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using namespace vdi;

constexpr std::uint32_t kMinBlock = 512;
constexpr std::uint32_t kMaxGuessed = 1u << 24;

struct VdiHeader {
  std::uint32_t kind = 0;
  std::uint32_t map_offset = 0;
  std::uint32_t data_offset = 0;
  std::uint32_t sector_size = 0;
  std::uint64_t disk_bytes = 0;
  std::uint32_t block_bytes = 0;
  std::uint32_t extra_bytes = 0;
  std::uint32_t block_count = 0;
  std::uint32_t blocks_stored = 0;
  std::string id;
  std::string parent_id;

  // All factors are 32 bits wide: no overflow.
  std::uint64_t stride() const { return std::uint64_t{block_bytes} + extra_bytes; }
  std::uint64_t place_of(std::uint32_t number) const {
    return data_offset + number * stride() + extra_bytes;
  }
};

class VdiMap final : public BlockMap {
 public:
  VdiMap(SourcePtr file, const VdiHeader& header, const Context& context)
      : file_bytes_(file->size()),
        table_(make_cached(std::move(file), context), header.map_offset, kMapEntryBytes),
        header_(header),
        context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(table_.room(), header_.block_bytes);
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t block_bytes = header_.block_bytes;
    return table_.each(
        range.offset / block_bytes, (range.end() - 1) / block_bytes,
        [&](std::uint64_t block, ByteView entry) {
          return visit(run_of(block, entry, intersect(range, {block * block_bytes, block_bytes})));
        });
  }

 private:
  Run run_of(std::uint64_t block, ByteView entry, Range range) const {
    Run run{Run::Kind::lost, range};
    if (entry.empty()) {
      context_.report(
          FindingCode::container_table, Severity::damage, {table_.place_of(block), kMapEntryBytes},
          "vdi: the block map cannot be read here", "its blocks are treated as unreadable");
      return run;
    }
    const std::uint32_t number = le32(entry, 0);
    if (number == kNeverWritten) {
      run.kind = Run::Kind::absent;
    } else if (number == kDiscarded) {
      run.kind = Run::Kind::zero;
    } else {
      run.kind = Run::Kind::stored;
      const std::uint64_t place = header_.place_of(number);
      run.file_offset = place + range.offset % header_.block_bytes;
      // The last block may be cut where the disk ends.
      const std::uint64_t needed = std::min<std::uint64_t>(
          header_.block_bytes, header_.disk_bytes - block * header_.block_bytes);
      if (place + needed > file_bytes_)
        context_.report(FindingCode::container_past_end, Severity::damage,
                        {block * header_.block_bytes, header_.block_bytes},
                        fmt::format("vdi: block {} points to byte {} of the file, which "
                                    "has {}",
                                    block, place, file_bytes_),
                        "what is not in the file is treated as unreadable");
    }
    return run;
  }

  std::uint64_t file_bytes_;
  EntryTable table_;
  VdiHeader header_;
  Context context_;
};

VdiHeader read_header(const ByteSource& file, const Context& context) {
  Bytes bytes(kHeaderBytes);
  const ReadResult got = file.read(0, bytes);
  const auto fail = [&](std::uint64_t offset, const std::string& what) {
    throw Error(ErrorCode::cannot_read, context.address, offset, "vdi: " + what,
                "the file can be read as a raw container file with ::bytes");
  };
  if (got.length < bytes.size()) fail(got.length, "the file ends inside its header");
  VdiHeader header;
  header.kind = le32(bytes, kKindAt);
  header.map_offset = le32(bytes, kMapOffsetAt);
  header.data_offset = le32(bytes, kDataOffsetAt);
  header.sector_size = le32(bytes, kSectorBytesAt);
  header.disk_bytes = le64(bytes, kDiskBytesAt);
  header.block_bytes = le32(bytes, kBlockBytesAt);
  header.block_count = le32(bytes, kBlockCountAt);
  header.extra_bytes = le32(bytes, kExtraBytesAt);
  header.blocks_stored = le32(bytes, kBlocksStoredAt);
  header.id = guid_text(bytes, kIdAt);
  header.parent_id = guid_text(bytes, kParentIdAt);
  if (!is_power_of_two(header.block_bytes) || header.block_bytes < kMinBlock)
    fail(kBlockBytesAt, fmt::format("invalid block size of {} bytes", header.block_bytes));
  if (header.map_offset < kHeaderBytes || header.map_offset >= file.size())
    fail(kMapOffsetAt,
         fmt::format("the header points to a block map at byte {}", header.map_offset));
  if (header.data_offset < header.map_offset)
    fail(kDataOffsetAt, fmt::format("the header points to data at byte {}, before the block map",
                                    header.data_offset));
  return header;
}

void report_header(const ByteSource& file, VdiHeader& header, const Context& context) {
  const std::uint64_t mapped = std::uint64_t{header.block_count} * header.block_bytes;
  if (header.disk_bytes > mapped || mapped - header.disk_bytes >= header.block_bytes) {
    context.report(FindingCode::container_header, Severity::damage, {kDiskBytesAt, 8},
                   fmt::format("vdi: the header says {} bytes of disk and {} blocks of {}",
                               header.disk_bytes, header.block_count, header.block_bytes),
                   "the smaller of both is the disk");
    header.disk_bytes = std::min(header.disk_bytes, mapped);
  }
  if (header.sector_size != 512)
    context.report(FindingCode::container_header, Severity::note, {kSectorBytesAt, 4},
                   fmt::format("vdi: the header says sectors of {} bytes", header.sector_size),
                   "512 is used, as every writer of the format does");
  const std::uint64_t map_end =
      header.map_offset + std::uint64_t{header.block_count} * kMapEntryBytes;
  if (map_end > file.size())
    context.report(FindingCode::container_truncated, Severity::damage,
                   {file.size(), map_end - file.size()}, "vdi: the file ends inside its block map",
                   "what is past that is treated as unreadable");
}

// What the whole map is judged by.
OneTable table_of(const ByteSource& file, const VdiHeader& header) {
  OneTable table;
  table.format = "vdi";
  table.disk_bytes = header.disk_bytes;
  table.block_bytes = header.block_bytes;
  table.blocks = {header.data_offset,
                  file.size() - std::min<std::uint64_t>(file.size(), header.data_offset)};
  table.lead_bytes = header.extra_bytes;
  table.complete = header.blocks_stored > 0 &&
                   header.place_of(header.blocks_stored - 1) + header.block_bytes <= file.size();
  table.whole = {header.map_offset, std::uint64_t{header.block_count} * kMapEntryBytes};
  table.entry = [at = header.map_offset](std::uint64_t block) {
    return Range{at + block * kMapEntryBytes, kMapEntryBytes};
  };
  table.entry_for = [header](std::optional<std::uint64_t> place) {
    constexpr std::uint32_t kNoBlock = 0xFFFFFFFF;
    Bytes entry(kMapEntryBytes);
    store_le32(entry, 0, place ? (*place - header.place_of(0)) / header.stride() : kNoBlock);
    return entry;
  };
  return table;
}

// `headless`: the header is worked out, and does not stand in the file.
Container open_by(const SourcePtr& file, const VdiHeader& header, bool headless,
                  const Surroundings& around, const Context& context) {
  const bool differencing = header.kind != kDynamic && header.kind != kFixed;
  Container container;
  container.format = "vdi";
  container.variant = header.kind == kDynamic ? "dynamic"
                      : header.kind == kFixed ? "fixed"
                                              : "differencing";
  container.stored_bytes = file->size();
  container.id = header.id;
  std::shared_ptr<const BlockMap> map = std::make_shared<VdiMap>(file, header, context);
  const std::shared_ptr<const BlockMap> as_stored = map;
  if (!differencing)
    map = mend_block_table(file, std::move(map), table_of(*file, header), around, context);
  MappedParts parts{file, std::move(map), header.disk_bytes, 512, nullptr, false};
  if (!headless && parts.map == as_stored) parts.writer = [file] { return make_vdi_writer(file); };
  if (differencing) {
    Parent parent = open_parent({{}, header.parent_id, false}, around, context);
    parts.parent = parent.flat;
    parts.parent_missing = parent.missing;
    container.chain = std::move(parent.chain);
  }
  container.flat = make_mapped_disk(std::move(parts), context);
  return container;
}

// The figures of a header that is lost, by the shape of the block map behind it: numbers of blocks,
// each once, all of those the file has room for. Every writer makes blocks of 1 MiB.
std::optional<VdiHeader> guess_header(const SourcePtr& source) {
  const ByteSource& file = *source;
  constexpr std::uint32_t kBlock = 1u << 20;
  constexpr std::size_t kFewBlocks = 3;
  for (const std::uint32_t map_at : {512u, 1u << 20}) {
    if (map_at >= file.size()) continue;
    const std::uint64_t room = divide_up(file.size(), kBlock);
    std::vector<bool> seen(static_cast<std::size_t>(room));
    std::uint32_t entries = 0;
    std::uint64_t stored = 0;
    std::uint64_t highest = 0;
    const EntryTable table(source, map_at, kMapEntryBytes);
    if (file.size() - map_at < kMapEntryBytes) continue;
    table.each(0, (file.size() - map_at) / kMapEntryBytes - 1, [&](std::uint64_t, ByteView entry) {
      if (entry.empty()) return false;
      const std::uint32_t number = le32(entry, 0);
      if (number != kNeverWritten && number != kDiscarded) {
        if (number >= room || seen[number]) return false;
        seen[number] = true;
        highest = std::max<std::uint64_t>(highest, number);
        ++stored;
      }
      return ++entries < kMaxGuessed;
    });
    if (stored < kFewBlocks || highest + 1 != stored) continue;
    const std::uint64_t map_end = map_at + entries * kMapEntryBytes;
    const std::uint64_t data_at = file.size() - std::min(file.size(), stored * kBlock);
    if (data_at < map_end || data_at >= map_end + std::uint64_t{2} * kBlock || data_at % 512 != 0)
      continue;
    VdiHeader header;
    header.kind = kDynamic;
    header.map_offset = map_at;
    header.data_offset = static_cast<std::uint32_t>(data_at);
    header.sector_size = 512;
    header.block_bytes = kBlock;
    header.block_count = entries;
    header.disk_bytes = std::uint64_t{entries} * kBlock;
    header.blocks_stored = static_cast<std::uint32_t>(stored);
    return header;
  }
  return std::nullopt;
}

}  // namespace

std::optional<std::string> vdi_identity(const ByteSource& file) {
  Bytes start(0x198);
  if (file.read(0, start).length < start.size() || le32(start, kSignatureAt) != kSignature)
    return std::nullopt;
  return guid_text(start, kIdAt);
}

std::optional<Container> open_vdi(const SourcePtr& file, const Surroundings& around,
                                  const Context& context) {
  Bytes start(0x50);
  if (file->read(0, start).length < start.size() || le32(start, kSignatureAt) != kSignature)
    return std::nullopt;
  VdiHeader header = read_header(*file, context);
  if (header.kind < kDynamic || header.kind > kDifferencing)
    throw Error(ErrorCode::unsupported, context.address, 0x4C,
                fmt::format("vdi: image kind {} is not read", header.kind),
                "the kind may be damaged; look at it with ::bytes");
  report_header(*file, header, context);
  return open_by(file, header, false, around, context);
}

std::optional<VdiShape> headless_vdi(const SourcePtr& file) {
  const auto header = guess_header(file);
  if (!header) return std::nullopt;
  return VdiShape{header->map_offset, header->data_offset, header->block_bytes, header->block_count,
                  header->blocks_stored};
}

std::optional<Container> open_headless_vdi(const SourcePtr& file, const Surroundings& around,
                                           const Context& context) {
  auto header = guess_header(file);
  if (!header) return std::nullopt;
  Container container = open_by(file, *header, true, around, context);
  std::string size = "as large as its block map";
  if (around.size_inside) {
    const std::uint64_t inside = around.size_inside(container.flat);
    if (inside <= header->disk_bytes && inside > header->disk_bytes - header->block_bytes) {
      container.flat = make_window(container.flat, {0, inside});
      size = "as large as the partition table inside says";
    }
  }
  context.report(
      FindingCode::container_header, Severity::damage, {0, kHeaderBytes}, "vdi: the header is lost",
      fmt::format("known by the shape of its block map at byte {}: {} blocks of {} bytes, "
                  "the data from byte {}; the disk is {}",
                  header->map_offset, header->block_count, header->block_bytes, header->data_offset,
                  size));
  return container;
}

}  // namespace lantern
