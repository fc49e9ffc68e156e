#include "container/vdi.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <atomic>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/guid.h"
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
// The block map is checked whole for blocks stored twice up to this many entries (4 TiB of disk).
constexpr std::uint32_t kMostCheckedBlocks = 4u << 20;

struct VdiHeader {
  std::uint32_t kind = 0;
  std::uint32_t map_offset = 0;
  std::uint32_t data_offset = 0;
  std::uint32_t sector_size = 0;
  std::uint64_t disk_bytes = 0;
  std::uint32_t block_bytes = 0;
  std::uint32_t block_count = 0;
  std::string id;
};

class VdiDisk final : public ByteSource {
 public:
  VdiDisk(SourcePtr file, const VdiHeader& header, const Context& context)
      : file_(std::move(file)),
        tables_(make_cached(file_, context)),
        header_(header),
        context_(context) {}

  std::uint64_t size() const override { return header_.disk_bytes; }
  std::optional<std::uint32_t> logical_sector_size() const override { return 512; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    std::size_t done = 0;
    while (done < out.size()) {
      const std::uint64_t at = offset + done;
      const Run run = run_at(at, out.size() - done);
      const auto target = out.subspan(done, static_cast<std::size_t>(run.length));
      std::size_t got = 0;
      if (run.kind == ExtentKind::direct) {
        const ReadResult result = file_->read(run.below_offset, target);
        got = result.length;
        for (const Range& lost : result.unreadable)
          unreadable.push_back({at + (lost.offset - run.below_offset), lost.length});
      } else if (run.kind != ExtentKind::unreadable) {
        got = target.size();
        std::fill(target.begin(), target.end(), std::byte{0});
      }
      if (got < target.size()) {
        std::fill(target.begin() + static_cast<std::ptrdiff_t>(got), target.end(), std::byte{0});
        unreadable.push_back({at + got, target.size() - got});
      }
      done += target.size();
    }
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    std::uint64_t at = range.offset;
    while (at < range.end()) {
      const Run run = run_at(at, range.end() - at);
      const bool direct = run.kind == ExtentKind::direct;
      if (!visit({run.kind,
                  {at, run.length},
                  direct ? file_ : nullptr,
                  direct ? run.below_offset : 0,
                  {}}))
        return false;
      at += run.length;
    }
    return true;
  }

 private:
  struct Run {
    ExtentKind kind{};
    std::uint64_t length = 0;
    std::uint64_t below_offset = 0;
  };

  // The longest run of one kind from `at`, no longer than `most`: neighbouring blocks that lie one
  // behind the other in the file are read in one piece.
  Run run_at(std::uint64_t at, std::uint64_t most) const {
    Run run = block_run(at, most);
    while (run.length < most && run.kind != ExtentKind::unreadable) {
      const Run next = block_run(at + run.length, most - run.length);
      const bool joins =
          next.kind == run.kind &&
          (run.kind != ExtentKind::direct || next.below_offset == run.below_offset + run.length);
      if (!joins) break;
      run.length += next.length;
    }
    return run;
  }

  Run block_run(std::uint64_t at, std::uint64_t most) const {
    const std::uint64_t block = at / header_.block_bytes;
    const std::uint64_t within = at % header_.block_bytes;
    Run run;
    run.length = std::min(most, header_.block_bytes - within);
    std::array<std::byte, kMapEntryBytes> raw{};
    const std::uint64_t entry_offset = header_.map_offset + block * kMapEntryBytes;
    const ReadResult got = tables_->read(entry_offset, raw);
    const std::uint32_t entry = le32(raw, 0);
    if (got.length < raw.size() || !got.unreadable.empty()) {
      run.kind = ExtentKind::unreadable;
      context_.report(FindingCode::vdi_truncated, Severity::damage, {entry_offset, kMapEntryBytes},
                      "the block map cannot be read here", "its blocks are given as lost");
    } else if (entry == kNeverWritten) {
      run.kind = ExtentKind::unallocated;
    } else if (entry == kDiscarded) {
      run.kind = ExtentKind::zero;
    } else {
      // Both factors are 32 bits wide: no overflow.
      const std::uint64_t place =
          header_.data_offset + std::uint64_t{entry} * header_.block_bytes + within;
      run.kind = place < file_->size() ? ExtentKind::direct : ExtentKind::unreadable;
      run.below_offset = place;
      if (run.kind == ExtentKind::direct) run.length = std::min(run.length, file_->size() - place);
      if (place - within + header_.block_bytes > file_->size() && needed_end(block, place - within))
        context_.report(FindingCode::vdi_block_past_end, Severity::damage,
                        {block * header_.block_bytes, header_.block_bytes},
                        fmt::format("block {} is said to lie at byte {} of the file, which has {}",
                                    block, place - within, file_->size()),
                        "what is not in the file is given as lost");
    }
    return run;
  }

  // Whether bytes of the disk really lie past the end of the file: the last block may be cut where
  // the disk ends.
  bool needed_end(std::uint64_t block, std::uint64_t block_place) const {
    const std::uint64_t of_disk = std::min<std::uint64_t>(
        header_.block_bytes, header_.disk_bytes - block * header_.block_bytes);
    return block_place + of_disk > file_->size();
  }

  SourcePtr file_;
  SourcePtr tables_;
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
  header.id = guid_text(bytes, 0x188);
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
    context.report(FindingCode::vdi_header, Severity::damage, {0x170, 8},
                   fmt::format("the header says {} bytes of disk and {} blocks of {}",
                               header.disk_bytes, header.block_count, header.block_bytes),
                   "the smaller of both is the disk");
    header.disk_bytes = std::min(header.disk_bytes, mapped);
  }
  if (header.sector_size != 512)
    context.report(FindingCode::vdi_header, Severity::note, {0x168, 4},
                   fmt::format("the header says sectors of {} bytes", header.sector_size),
                   "512 is used, as every writer of the format does");
  const std::uint64_t map_end =
      header.map_offset + std::uint64_t{header.block_count} * kMapEntryBytes;
  if (map_end > file.size())
    context.report(FindingCode::vdi_truncated, Severity::damage,
                   {file.size(), map_end - file.size()}, "the file ends inside its block map",
                   "what lies past that is given as lost");
}

// Reads the map once and reports what it says of places twice taken and past the end.
void check_map(const ByteSource& file, const VdiHeader& header, const Context& context) {
  if (header.block_count > kMostCheckedBlocks) return;
  const std::uint64_t blocks_stored =
      header.data_offset >= file.size()
          ? 0
          : divide_up(file.size() - header.data_offset, header.block_bytes);
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
            FindingCode::vdi_block_shared, Severity::damage,
            {block * header.block_bytes, header.block_bytes},
            fmt::format("block {} shares its place in the file with an earlier block", block),
            "both read the same bytes; one of them is wrong");
      } else {
        taken[entry] = true;
      }
    }
  }
  if (past_end > 0)
    context.report(FindingCode::vdi_truncated, Severity::damage,
                   {first_past_end * header.block_bytes, header.block_bytes},
                   fmt::format("{} of the disk's blocks lie past the end of the file, the first is "
                               "block {}",
                               past_end, first_past_end),
                   "they are given as lost");
}

}  // namespace

std::optional<Container> open_vdi(const SourcePtr& file, const Context& context) {
  Bytes start(0x50);
  if (file->read(0, start).length < start.size() || le32(start, 0x40) != kSignature)
    return std::nullopt;
  VdiHeader header = read_header(*file, context);
  if (header.kind != 1 && header.kind != 2)
    throw Error(ErrorCode::unsupported, context.address, 0x4C,
                header.kind == 4 ? "vdi: a differencing image, which holds only what changed since "
                                   "its parent; not read yet"
                                 : fmt::format("vdi: image kind {} is not read", header.kind),
                "open the base image beside it");
  report_header(*file, header, context);
  check_map(*file, header, context);
  Container container;
  container.format = "vdi";
  container.variant = header.kind == 1 ? "dynamic" : "fixed";
  container.stored_bytes = file->size();
  container.id = header.id;
  container.flat = std::make_shared<VdiDisk>(file, header, context);
  return container;
}

}  // namespace lantern
