#include "container/vhd/vhd.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/store.h"
#include "base/utf16.h"
#include "container/chain.h"
#include "container/mapped_disk.h"
#include "container/mend.h"
#include "container/vhd/layout.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace vhd;

constexpr std::size_t kOldFooterBytes = 511;
constexpr std::uint64_t kUsualBlock = 2u << 20;
constexpr std::uint64_t kMaxRead = 1ull << 62;
constexpr std::size_t kMaxLocatorBytes = 64u << 10;
constexpr std::int64_t kSecondsTo2000 = 946'684'800;

struct Footer {
  std::uint64_t header_offset = 0;
  std::uint64_t disk_bytes = 0;
  std::uint32_t kind = 0;
  std::string id;
  std::uint64_t at = 0;
  std::uint64_t bytes = kFooterBytes;
  bool sum_right = false;
};

std::string id_text(ByteView g) {
  return fmt::format("{:08x}-{:04x}-{:04x}-{:04x}-{:04x}{:08x}", be32(g, 0), be16(g, 4), be16(g, 6),
                     be16(g, 8), be16(g, 10), be32(g, 12));
}

std::optional<Footer> read_footer(const ByteSource& file, std::uint64_t at, std::size_t length) {
  Bytes bytes(kFooterBytes);
  if (file.read(at, std::span(bytes).first(length)).length < length ||
      !has_text(bytes, 0, footer::kMark))
    return std::nullopt;
  Footer found;
  found.header_offset = be64(bytes, footer::kHeaderOffsetAt);
  found.disk_bytes = be64(bytes, footer::kDiskBytesAt);
  found.kind = be32(bytes, footer::kKindAt);
  found.id = id_text(slice(bytes, footer::kIdAt, 16));
  found.at = at;
  found.bytes = length;
  found.sum_right = checksum(bytes, footer::kSumAt) == be32(bytes, footer::kSumAt);
  return found;
}

// Whether the footer follows the last block, where the file is longer than the disk: so it is in a
// volume that was made larger than it.
bool ends_before_the_file(const ByteSource& file, const Footer& copy) {
  constexpr std::uint64_t kMaxEntries = 4u << 20;
  Bytes head(kHeaderBytes);
  if (copy.header_offset >= file.size() ||
      file.read(copy.header_offset, head).length < head.size() || !has_text(head, 0, header::kMark))
    return false;
  const std::uint64_t block = be32(head, header::kBlockBytesAt);
  const std::uint64_t count = be32(head, header::kEntryCountAt);
  const std::uint64_t table_at = be64(head, header::kTableOffsetAt);
  if (block < kSector || count > kMaxEntries || table_at >= file.size()) return false;
  Bytes table(static_cast<std::size_t>(count) * 4);
  if (file.read(table_at, table).length < table.size()) return false;
  std::uint64_t end = divide_up(table_at + table.size(), kSector) * kSector;
  const std::uint64_t bitmap = divide_up(divide_up(block / kSector, 8), kSector) * kSector;
  for (std::size_t i = 0; i < table.size(); i += 4)
    if (const std::uint32_t sector = be32(table, i); sector != kNotStored)
      end = std::max(end, std::uint64_t{sector} * kSector + bitmap + block);
  const auto behind = read_footer(file, end, kFooterBytes);
  return behind && behind->sum_right && behind->id == copy.id;
}

// The footer at the end, then the one an old writer made a byte shorter, then the copy at the
// start.
std::optional<Footer> choose_footer(const ByteSource& file, const Context* context) {
  std::optional<Footer> best;
  std::vector<Footer> seen;
  if (file.size() >= kFooterBytes) {
    if (auto f = read_footer(file, file.size() - kFooterBytes, kFooterBytes)) seen.push_back(*f);
    if (auto f = read_footer(file, file.size() - kOldFooterBytes, kOldFooterBytes))
      seen.push_back(*f);
    if (auto f = read_footer(file, 0, kFooterBytes)) seen.push_back(*f);
  }
  for (const Footer& footer : seen)
    if (!best || (!best->sum_right && footer.sum_right)) best = footer;
  if (!best || context == nullptr) return best;
  if (!best->sum_right)
    context->report(FindingCode::container_header, Severity::damage, {best->at, best->bytes},
                    "vhd: the checksum of the footer is wrong, and there is no better copy",
                    "it is used as it is");
  else if (best->at == 0 && file.size() > kFooterBytes && !ends_before_the_file(file, *best))
    context->report(FindingCode::container_header_copy, Severity::damage,
                    {file.size() - kFooterBytes, kFooterBytes},
                    "vhd: the footer at the end is lost or damaged; the file may be cut",
                    "its copy at the start is used");
  else if (best->kind != kFixed && (seen.back().at != 0 || !seen.back().sum_right))
    context->report(FindingCode::container_header_copy, Severity::warning, {0, kFooterBytes},
                    "vhd: the copy of the footer at the start is lost or damaged",
                    "the footer at the end is used");
  return best;
}

struct DynamicHeader {
  std::uint64_t table_offset = 0;
  std::uint64_t entry_count = 0;
  std::uint64_t block_bytes = kUsualBlock;
  bool sum_right = true;
  std::string parent_id;
  std::int64_t parent_time = 0;  // seconds since 1970
  std::vector<std::string> parent_names;

  // Of the sectors of a block, whole sectors.
  std::uint64_t bitmap_bytes() const {
    return divide_up(divide_up(block_bytes / kSector, 8), kSector) * kSector;
  }
};

// What a locator of this platform says; empty for kinds that no file name is kept in.
std::string locator_name(std::uint32_t platform, ByteView data) {
  constexpr std::uint32_t kRelative = 0x57327275;  // "W2ru"
  constexpr std::uint32_t kAbsolute = 0x57326B75;  // "W2ku"
  constexpr std::uint32_t kUrl = 0x4D616358;       // "MacX"
  if (platform == kRelative || platform == kAbsolute) return utf16le_text(data);
  if (platform != kUrl) return {};
  std::string url = text_of(data);
  url = url.substr(0, url.find('\0'));
  return url.starts_with("file://") ? url.substr(url.find('/', 7)) : url;
}

void read_locators(const ByteSource& file, ByteView bytes, DynamicHeader& header) {
  std::string last;
  for (std::size_t i = 0; i < header::kLocators; ++i) {
    const std::size_t at = header::kLocatorsAt + i * header::kLocatorBytes;
    const std::uint32_t platform = be32(bytes, at);
    const std::uint32_t length = be32(bytes, at + 8);
    const std::uint64_t offset = be64(bytes, at + 16);
    if (platform == 0 || length == 0 || length > kMaxLocatorBytes || offset >= file.size())
      continue;
    Bytes data(length);
    data.resize(file.read(offset, data).length);
    if (std::string name = locator_name(platform, data); !name.empty())
      header.parent_names.push_back(std::move(name));
  }
  if (std::string name =
          utf16be_text(slice(bytes, header::kParentNameAt, header::kParentNameBytes));
      !name.empty())
    header.parent_names.push_back(std::move(name));
}

std::optional<DynamicHeader> read_header(const ByteSource& file, std::uint64_t at,
                                         const Context& context) {
  Bytes bytes(kHeaderBytes);
  if (at >= file.size() || file.read(at, bytes).length < bytes.size() ||
      !has_text(bytes, 0, header::kMark))
    return std::nullopt;
  DynamicHeader found;
  found.table_offset = be64(bytes, header::kTableOffsetAt);
  found.entry_count = be32(bytes, header::kEntryCountAt);
  found.block_bytes = be32(bytes, header::kBlockBytesAt);
  found.parent_id = id_text(slice(bytes, header::kParentIdAt, 16));
  found.parent_time = kSecondsTo2000 + be32(bytes, header::kParentTimeAt);
  if (!is_power_of_two(found.block_bytes) || found.block_bytes < kSector ||
      found.table_offset >= file.size())
    return std::nullopt;
  found.sum_right = checksum(bytes, header::kSumAt) == be32(bytes, header::kSumAt);
  if (!found.sum_right)
    context.report(FindingCode::container_header, Severity::damage, {at, kHeaderBytes},
                   "vhd: the checksum of the dynamic header is wrong", "it is used as it is");
  read_locators(file, bytes, found);
  return found;
}

class VhdMap final : public BlockMap {
 public:
  VhdMap(const SourcePtr& file, const DynamicHeader& header, std::uint64_t disk_bytes,
         bool differencing, const Context& context)
      : tables_(make_cached(file, context)),
        table_(tables_, header.table_offset, 4),
        header_(header),
        disk_bytes_(disk_bytes),
        differencing_(differencing),
        context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(table_.room(), header_.block_bytes);
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t block_bytes = header_.block_bytes;
    return table_.each(range.offset / block_bytes, (range.end() - 1) / block_bytes,
                       [&](std::uint64_t block, ByteView entry) {
                         return block_runs(block, entry,
                                           intersect(range, {block * block_bytes, block_bytes}),
                                           visit);
                       });
  }

 private:
  bool block_runs(std::uint64_t block, ByteView entry, Range range, const RunVisitor& visit) const {
    if (entry.empty() || block >= header_.entry_count) {
      context_.report(FindingCode::container_table, Severity::damage, {table_.place_of(block), 4},
                      "vhd: the block table cannot be read here, or ends before the disk",
                      "its blocks are treated as unreadable");
      return visit({Run::Kind::lost, range});
    }
    const std::uint32_t sector = be32(entry, 0);
    if (sector == kNotStored) return visit({Run::Kind::absent, range});
    const std::uint64_t bitmap = sector * kSector;
    const std::uint64_t data = bitmap + header_.bitmap_bytes();
    const std::uint64_t needed =
        std::min(header_.block_bytes, disk_bytes_ - block * header_.block_bytes);
    if (data + needed > tables_->size())
      context_.report(FindingCode::container_past_end, Severity::damage,
                      {block * header_.block_bytes, needed},
                      fmt::format("vhd: block {} points to byte {} of the file, which has "
                                  "{}",
                                  block, bitmap, tables_->size()),
                      "what is not in the file is treated as unreadable");
    const std::uint64_t within = range.offset % header_.block_bytes;
    if (!differencing_) return visit({Run::Kind::stored, range, data + within});
    return by_bitmap(bitmap, data, range, within, visit);
  }

  // Sector by sector: this file's, or the parent's.
  bool by_bitmap(std::uint64_t bitmap, std::uint64_t data, Range range, std::uint64_t within,
                 const RunVisitor& visit) const {
    const std::uint64_t first = within / kSector;
    const std::uint64_t last = (within + range.length - 1) / kSector;
    const std::uint64_t block_start = range.offset - within;
    const EntryTable bits(tables_, bitmap, 1);
    return bits.each(first / 8, last / 8, [&](std::uint64_t byte, ByteView eight) {
      for (std::uint64_t i = 0; i < 8; ++i) {
        const std::uint64_t in_block = (byte * 8 + i) * kSector;
        const Range sector = intersect(range, {block_start + in_block, kSector});
        if (sector.empty()) continue;
        Run run{Run::Kind::lost, sector};
        if (!eight.empty()) {
          const bool own = (u8(eight, 0) & (0x80u >> i)) != 0;
          run.kind = own ? Run::Kind::stored : Run::Kind::absent;
          run.file_offset = data + (sector.offset - block_start);
        }
        if (!visit(run)) return false;
      }
      return true;
    });
  }

  SourcePtr tables_;
  EntryTable table_;
  DynamicHeader header_;
  std::uint64_t disk_bytes_;
  bool differencing_;
  Context context_;
};

// What the whole block table is judged by.
OneTable table_of(const ByteSource& file, const DynamicHeader& header, const Footer& footer) {
  OneTable table;
  table.format = "vhd";
  table.disk_bytes = footer.disk_bytes;
  table.block_bytes = header.block_bytes;
  // The block table lies before them; or anywhere, when the disk was made larger.
  const std::uint64_t from = kFooterBytes + kHeaderBytes;
  const std::uint64_t to = footer.at != 0 ? footer.at : file.size();
  table.blocks = {from, to - std::min(from, to)};
  table.taken = {{footer.header_offset, kHeaderBytes},
                 {header.table_offset, divide_up(header.entry_count * 4, kSector) * kSector}};
  table.lead_bytes = header.bitmap_bytes();
  table.complete = footer.at != 0;
  table.whole = {header.table_offset, header.entry_count * 4};
  table.entry = [at = header.table_offset](std::uint64_t block) {
    return Range{at + block * 4, 4};
  };
  table.entry_for = [lead = table.lead_bytes](std::optional<std::uint64_t> place) {
    constexpr std::uint32_t kNoBlock = 0xFFFFFFFF;
    Bytes entry(4);
    store_be32(entry, 0, place ? (*place - lead) / kSector : kNoBlock);
    return entry;
  };
  return table;
}

// The figures of a dynamic header that is lost, by the shape of the block table: sectors of the
// file, as far apart as blocks with their bitmaps are.
std::optional<DynamicHeader> guess_header(const SourcePtr& source, const Footer& footer) {
  constexpr std::uint64_t kLastPlace = 64u << 10;
  const ByteSource& file = *source;
  for (std::uint64_t at = kFooterBytes + kHeaderBytes; at < kLastPlace; at += kSector)
    for (const std::uint64_t block_bytes : {kUsualBlock, kUsualBlock / 4, kUsualBlock / 2,
                                            kUsualBlock * 2, kUsualBlock * 4, kUsualBlock * 8}) {
      DynamicHeader header;
      header.table_offset = at;
      header.block_bytes = block_bytes;
      header.entry_count = divide_up(footer.disk_bytes, block_bytes);
      if (header.entry_count == 0 ||
          header.entry_count > (file.size() - std::min(file.size(), at)) / 4)
        continue;
      std::vector<std::uint64_t> places;
      const EntryTable table(source, at, 4);
      const std::uint64_t table_end = at + header.entry_count * 4;
      const bool fits = table.each(0, header.entry_count - 1, [&](std::uint64_t, ByteView entry) {
        if (entry.empty()) return false;
        const std::uint64_t place = be32(entry, 0) * kSector;
        if (be32(entry, 0) == kNotStored) return true;
        places.push_back(place);
        return place >= table_end && place < file.size();
      });
      if (!fits || places.empty()) continue;
      std::sort(places.begin(), places.end());
      const std::uint64_t slot = header.bitmap_bytes() + block_bytes;
      const bool apart =
          std::adjacent_find(places.begin(), places.end(), [&](std::uint64_t a, std::uint64_t b) {
            return b - a < slot || (b - a) % slot != 0;
          }) == places.end();
      // All that lies behind the table is blocks, and the footer.
      if (!apart || (footer.at != 0 && footer.at - places.front() > (places.size() + 1) * slot))
        continue;
      return header;
    }
  return std::nullopt;
}

Container fixed_disk(const SourcePtr& file, const Footer& footer, const Context& context) {
  Container container;
  container.variant = "fixed";
  const std::uint64_t here = footer.at;
  if (footer.disk_bytes != here)
    context.report(FindingCode::container_header, Severity::damage,
                   {footer.at + footer::kDiskBytesAt, 8},
                   fmt::format("vhd: the footer says a disk of {} bytes, before it are {}",
                               footer.disk_bytes, here),
                   "the bytes before the footer are the disk");
  container.flat = make_window(file, {0, here});
  return container;
}

}  // namespace

std::optional<std::string> vhd_identity(const ByteSource& file) {
  const auto footer = choose_footer(file, nullptr);
  return footer ? std::optional(footer->id) : std::nullopt;
}

std::optional<VhdShape> vhd_shape(const SourcePtr& file) {
  const auto footer = choose_footer(*file, nullptr);
  if (!footer || footer->kind != kDynamic) return std::nullopt;
  const auto header = guess_header(file, *footer);
  if (!header) return std::nullopt;
  return VhdShape{footer->header_offset, header->table_offset, header->entry_count,
                  header->block_bytes};
}

std::optional<Container> open_vhd(const SourcePtr& file, const Surroundings& around,
                                  const Context& context) {
  auto footer = choose_footer(*file, &context);
  Bytes sign(8);
  const bool header_alone =
      !footer && file->read(kFooterBytes, sign).length == 8 && has_text(sign, 0, header::kMark);
  if (!footer && !header_alone) return std::nullopt;
  Container container;
  if (footer && footer->kind == kFixed) {
    container = fixed_disk(file, *footer, context);
  } else {
    std::optional<DynamicHeader> header;
    if (footer) header = read_header(*file, footer->header_offset, context);
    const bool whole = header && header->sum_right && footer->sum_right &&
                       footer->bytes == kFooterBytes && footer->at == file->size() - kFooterBytes;
    if (!header) header = read_header(*file, kFooterBytes, context);
    // Of one whose sum is wrong the block table tells whether its figures still are right.
    const bool doubted = header && !header->sum_right && footer && footer->kind == kDynamic;
    if (footer && (!header || doubted))
      if (const auto guessed = guess_header(file, *footer)) {
        const bool same = header && header->table_offset == guessed->table_offset &&
                          header->block_bytes == guessed->block_bytes &&
                          header->entry_count >= guessed->entry_count;
        if (!same) {
          header = guessed;
          context.report(
              FindingCode::container_header, Severity::damage,
              {footer->header_offset, kHeaderBytes}, "vhd: the dynamic header is lost",
              fmt::format("known by the shape of its block table at byte {}: {} blocks of {} bytes",
                          header->table_offset, header->entry_count, header->block_bytes));
        }
      }
    if (!header)
      throw Error(ErrorCode::cannot_read, context.address,
                  footer ? footer->header_offset : kFooterBytes, "vhd: the dynamic header is lost",
                  "look at the file with ::bytes");
    const std::uint64_t mapped = header->entry_count * header->block_bytes;
    if (!footer) {
      footer.emplace();
      footer->disk_bytes = mapped;
      footer->kind =
          header->parent_id.find_first_not_of("0-") == std::string::npos ? kDynamic : kDifferencing;
      context.report(FindingCode::container_header, Severity::damage, {0, kFooterBytes},
                     "vhd: the footer and its copy are lost",
                     "the size of the disk is that of its block table");
    }
    if (footer->kind != kDynamic && footer->kind != kDifferencing)
      throw Error(ErrorCode::unsupported, context.address, footer->at + footer::kKindAt,
                  fmt::format("vhd: kind {} is not read", footer->kind),
                  "the kind may be damaged; look at it with ::bytes");
    if (footer->disk_bytes > kMaxRead || footer->disk_bytes > mapped) {
      context.report(FindingCode::container_header, Severity::damage,
                     {footer->at + footer::kDiskBytesAt, 8},
                     fmt::format("vhd: the footer says a disk of {} bytes, the block table has "
                                 "room for {}",
                                 footer->disk_bytes, mapped),
                     footer->disk_bytes > kMaxRead
                         ? "the size of the block table is taken"
                         : "what the table has no entry for is treated as unreadable");
      if (footer->disk_bytes > kMaxRead) footer->disk_bytes = mapped;
    }
    const bool differencing = footer->kind == kDifferencing;
    container.variant = differencing ? "differencing" : "dynamic";
    std::shared_ptr<const BlockMap> map =
        std::make_shared<VhdMap>(file, *header, footer->disk_bytes, differencing, context);
    const std::shared_ptr<const BlockMap> as_stored = map;
    if (!differencing)
      map = mend_block_table(file, std::move(map), table_of(*file, *header, *footer), around,
                             context);
    MappedParts parts{file, std::move(map), footer->disk_bytes, std::nullopt, nullptr, false};
    if (whole && parts.map == as_stored)
      parts.writer = [file, at = footer->header_offset] { return make_vhd_writer(file, at); };
    if (differencing) {
      Parent parent =
          open_parent({header->parent_names, header->parent_id, false}, around, context);
      parts.parent = parent.flat;
      parts.parent_missing = parent.missing;
      container.chain = std::move(parent.chain);
      container.chain.front().why +=
          fmt::format("; last changed {} when the child was made",
                      to_iso8601({header->parent_time, 0, 1'000'000'000, false}));
    }
    container.flat = make_mapped_disk(std::move(parts), context);
  }
  container.format = "vhd";
  container.id = footer->id;
  container.stored_bytes = file->size();
  return container;
}

}  // namespace lantern
