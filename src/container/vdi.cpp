#include "container/vdi.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/guid.h"
#include "container/chain.h"
#include "container/mapped_disk.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint32_t kSignature = 0xBEDA107F;
constexpr std::size_t kHeaderBytes = 0x1C8;
constexpr std::uint32_t kNeverWritten = 0xFFFFFFFF;
constexpr std::uint32_t kDiscarded = 0xFFFFFFFE;
constexpr std::uint64_t kMapEntryBytes = 4;
constexpr std::uint32_t kLeastBlock = 512;
constexpr std::uint32_t kDynamic = 1;
constexpr std::uint32_t kFixed = 2;
constexpr std::uint32_t kDifferencing = 4;  // 3, undo, is laid out alike
// The block map is checked whole for blocks stored twice up to this many entries (4 TiB of disk).
constexpr std::uint32_t kMostCheckedBlocks = 4u << 20;

struct VdiHeader {
  std::uint32_t kind = 0;
  std::uint32_t map_offset = 0;
  std::uint32_t data_offset = 0;
  std::uint32_t sector_size = 0;
  std::uint64_t disk_bytes = 0;
  std::uint32_t block_bytes = 0;
  std::uint32_t extra_bytes = 0;
  std::uint32_t block_count = 0;
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
      context_.report(FindingCode::container_table, Severity::damage,
                      {table_.place_of(block), kMapEntryBytes},
                      "vdi: the block map cannot be read here", "its blocks are given as lost");
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
                        fmt::format("vdi: block {} is said to lie at byte {} of the file, which "
                                    "has {}",
                                    block, place, file_bytes_),
                        "what is not in the file is given as lost");
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
                "the file can be looked at as it lies with ::bytes");
  };
  if (got.length < bytes.size()) fail(got.length, "the file ends inside its header");
  VdiHeader header;
  header.kind = le32(bytes, 0x4C);
  header.map_offset = le32(bytes, 0x154);
  header.data_offset = le32(bytes, 0x158);
  header.sector_size = le32(bytes, 0x168);
  header.disk_bytes = le64(bytes, 0x170);
  header.block_bytes = le32(bytes, 0x178);
  header.block_count = le32(bytes, 0x180);
  header.extra_bytes = le32(bytes, 0x17C);
  header.id = guid_text(bytes, 0x188);
  header.parent_id = guid_text(bytes, 0x1A8);
  if (!is_power_of_two(header.block_bytes) || header.block_bytes < kLeastBlock)
    fail(0x178, fmt::format("a block size of {} bytes is none", header.block_bytes));
  if (header.map_offset < kHeaderBytes || header.map_offset >= file.size())
    fail(0x154, fmt::format("the block map is said to lie at byte {}", header.map_offset));
  if (header.data_offset < header.map_offset)
    fail(0x158, fmt::format("the data is said to begin at byte {}, before the block map",
                            header.data_offset));
  return header;
}

void report_header(const ByteSource& file, VdiHeader& header, const Context& context) {
  const std::uint64_t mapped = std::uint64_t{header.block_count} * header.block_bytes;
  if (header.disk_bytes > mapped || mapped - header.disk_bytes >= header.block_bytes) {
    context.report(FindingCode::container_header, Severity::damage, {0x170, 8},
                   fmt::format("vdi: the header says {} bytes of disk and {} blocks of {}",
                               header.disk_bytes, header.block_count, header.block_bytes),
                   "the smaller of both is the disk");
    header.disk_bytes = std::min(header.disk_bytes, mapped);
  }
  if (header.sector_size != 512)
    context.report(FindingCode::container_header, Severity::note, {0x168, 4},
                   fmt::format("vdi: the header says sectors of {} bytes", header.sector_size),
                   "512 is used, as every writer of the format does");
  const std::uint64_t map_end =
      header.map_offset + std::uint64_t{header.block_count} * kMapEntryBytes;
  if (map_end > file.size())
    context.report(FindingCode::container_truncated, Severity::damage,
                   {file.size(), map_end - file.size()}, "vdi: the file ends inside its block map",
                   "what lies past that is given as lost");
}

// Reads the map once and reports what it says of places twice taken and past the end.
void check_map(const ByteSource& file, const VdiHeader& header, const Context& context) {
  if (header.block_count > kMostCheckedBlocks) return;
  const std::uint64_t blocks_stored =
      header.data_offset >= file.size()
          ? 0
          : divide_up(file.size() - header.data_offset, header.stride());
  std::vector<bool> taken(static_cast<std::size_t>(blocks_stored));
  std::uint64_t past_end = 0;
  std::uint64_t first_past_end = 0;
  Bytes piece(std::size_t{256} * 1024);
  const std::uint64_t map_bytes = std::uint64_t{header.block_count} * kMapEntryBytes;
  for (std::uint64_t at = 0; at < map_bytes; at += piece.size()) {
    const auto want =
        static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), map_bytes - at));
    const std::size_t got = file.read(header.map_offset + at, std::span(piece).first(want)).length;
    for (std::size_t i = 0; i + kMapEntryBytes <= got; i += kMapEntryBytes) {
      const std::uint32_t entry = le32(piece, i);
      if (entry == kNeverWritten || entry == kDiscarded) continue;
      const std::uint64_t block = (at + i) / kMapEntryBytes;
      if (entry >= blocks_stored) {
        if (past_end++ == 0) first_past_end = block;
      } else if (taken[entry]) {
        context.report(
            FindingCode::container_shared, Severity::damage,
            {block * header.block_bytes, header.block_bytes},
            fmt::format("vdi: block {} shares its place in the file with an earlier block", block),
            "both read the same bytes; one of them is wrong");
      } else {
        taken[entry] = true;
      }
    }
  }
  if (past_end > 0)
    context.report(
        FindingCode::container_truncated, Severity::damage,
        {first_past_end * header.block_bytes, header.block_bytes},
        fmt::format("vdi: {} of the disk's blocks lie past the end of the file, the first is "
                    "block {}",
                    past_end, first_past_end),
        "they are given as lost");
}

}  // namespace

std::optional<std::string> vdi_identity(const ByteSource& file) {
  Bytes start(0x198);
  if (file.read(0, start).length < start.size() || le32(start, 0x40) != kSignature)
    return std::nullopt;
  return guid_text(start, 0x188);
}

std::optional<Container> open_vdi(const SourcePtr& file, const Surroundings& around,
                                  const Context& context) {
  Bytes start(0x50);
  if (file->read(0, start).length < start.size() || le32(start, 0x40) != kSignature)
    return std::nullopt;
  VdiHeader header = read_header(*file, context);
  if (header.kind < kDynamic || header.kind > kDifferencing)
    throw Error(ErrorCode::unsupported, context.address, 0x4C,
                fmt::format("vdi: image kind {} is not read", header.kind),
                "the kind may be damaged; look at it with ::bytes");
  report_header(*file, header, context);
  check_map(*file, header, context);
  Container container;
  container.format = "vdi";
  container.variant = header.kind == kDynamic ? "dynamic"
                      : header.kind == kFixed ? "fixed"
                                              : "differencing";
  container.stored_bytes = file->size();
  container.id = header.id;
  MappedParts parts{
      file, std::make_shared<VdiMap>(file, header, context), header.disk_bytes, 512, nullptr,
      false};
  if (container.variant == "differencing") {
    Parent parent = open_parent({{}, header.parent_id, false}, around, context);
    parts.parent = parent.flat;
    parts.parent_missing = parent.missing;
    container.chain = std::move(parent.chain);
  }
  container.flat = make_mapped_disk(std::move(parts), context);
  return container;
}

}  // namespace lantern
