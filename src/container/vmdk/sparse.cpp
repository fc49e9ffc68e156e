#include "container/vmdk/sparse.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/inflate.h"
#include "container/mend.h"
#include "container/vmdk/descriptor.h"
#include "container/vmdk/directory.h"
#include "container/vmdk/grain_scan.h"
#include "container/vmdk/layout.h"
#include "container/vmdk/server_sparse.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace vmdk;

constexpr std::uint64_t kMaxSectors = 1ull << 53;
constexpr std::uint64_t kInFooter = ~0ull;

struct Layout {
  std::string variant = "sparse";
  std::uint64_t capacity = 0;  // sectors
  std::uint64_t grain = 0;     // sectors
  std::uint64_t table_entries = 512;
  std::uint64_t directory = 0;         // sector
  std::uint64_t second_directory = 0;  // sector; 0: there is none
  std::uint64_t tables_behind = 0;     // byte of tables that lie behind a lost directory; 0: none
  std::uint64_t metadata = 0;          // sectors
  Range descriptor;
  bool zero_grains = false;
  bool packed = false;
  bool markers = false;
  bool unclean = false;

  std::uint64_t grain_bytes() const { return grain * kSector; }
  std::uint64_t disk_bytes() const { return capacity * kSector; }
};

Layout layout_of(ByteView header) {
  Layout layout;
  const std::uint32_t flags = le32(header, kFlagsAt);
  layout.capacity = le64(header, kCapacityAt);
  layout.grain = le64(header, kGrainAt);
  layout.descriptor = {le64(header, kDescriptorOffsetAt), le64(header, kDescriptorSectorsAt)};
  layout.table_entries = le32(header, kTableEntriesAt);
  layout.second_directory = (flags & kSecondDirectory) != 0 ? le64(header, kSecondDirectoryAt) : 0;
  layout.directory = le64(header, kDirectoryAt);
  layout.metadata = le64(header, kMetadataAt);
  layout.zero_grains = (flags & kZeroGrains) != 0;
  layout.packed = (flags & kPacked) != 0;
  layout.markers = (flags & kMarkers) != 0;
  layout.unclean = u8(header, kUncleanAt) != 0;
  return layout;
}

class SparseMap final : public BlockMap {
 public:
  SparseMap(const SourcePtr& file, const Layout& layout, const Context& context)
      : file_(file), tables_(make_cached(file, context)), layout_(layout), context_(context) {}

  std::uint64_t mapped_bytes() const override {
    if (layout_.tables_behind != 0) return layout_.disk_bytes();
    const std::uint64_t table_bytes = layout_.table_entries * layout_.grain_bytes();
    std::uint64_t room = EntryTable(tables_, layout_.directory * kSector, 4).room();
    if (layout_.second_directory != 0)
      room = std::max(room, EntryTable(tables_, layout_.second_directory * kSector, 4).room());
    return saturating_mul(room, table_bytes);
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t grain_bytes = layout_.grain_bytes();
    const std::uint64_t last_grain = (range.end() - 1) / grain_bytes;
    for (std::uint64_t grain = range.offset / grain_bytes; grain <= last_grain;) {
      const std::uint64_t table = grain / layout_.table_entries;
      const std::uint64_t first_of_table = table * layout_.table_entries;
      const std::uint64_t last = std::min(last_grain, first_of_table + layout_.table_entries - 1);
      const Range part = intersect(range, {grain * grain_bytes, (last - grain + 1) * grain_bytes});
      if (!table_runs(table, first_of_table, grain, last, part, visit)) return false;
      grain = last + 1;
    }
    return true;
  }

  std::size_t unpack(ByteView packed, std::span<std::byte> unit) const override {
    return inflate_block(Packing::zlib, packed, unit);
  }

 private:
  std::optional<std::uint32_t> entry_at(std::uint64_t offset) const {
    Bytes entry(4);
    const ReadResult got = tables_->read(offset, entry);
    if (got.length < entry.size() || !got.unreadable.empty()) return std::nullopt;
    return le32(entry, 0);
  }

  // The byte a table begins at; 0 when the directory names none, empty when that cannot be known.
  std::optional<std::uint64_t> table_of(std::uint64_t directory, std::uint64_t index) const {
    const auto sector = entry_at(directory * kSector + index * 4);
    const bool here = sector && *sector != 0 && *sector * kSector < tables_->size();
    if (here) return *sector * kSector;
    if (layout_.tables_behind != 0)
      return layout_.tables_behind + index * layout_.table_entries * 4;
    return sector == 0u ? std::optional<std::uint64_t>(0) : std::nullopt;
  }

  bool table_runs(std::uint64_t table, std::uint64_t first_of_table, std::uint64_t first,
                  std::uint64_t last, Range part, const RunVisitor& visit) const {
    auto primary = table_of(layout_.directory, table);
    const std::optional<std::uint64_t> second =
        layout_.second_directory != 0 ? table_of(layout_.second_directory, table) : 0;
    if (!primary.value_or(0) && second.value_or(0)) {
      context_.report(FindingCode::container_table_copy, Severity::damage,
                      {layout_.directory * kSector + table * 4, 4},
                      fmt::format("vmdk: the directory has lost grain table {}", table),
                      "the second directory's is used");
      primary = second;
    }
    if (!primary) {
      context_.report(FindingCode::container_table, Severity::damage,
                      {layout_.directory * kSector + table * 4, 4},
                      fmt::format("vmdk: grain table {} points outside the file", table),
                      "its grains are treated as unreadable");
      return visit({Run::Kind::lost, part});
    }
    if (*primary == 0) return visit({Run::Kind::absent, part});
    const EntryTable entries(tables_, *primary, 4);
    const std::uint64_t spare = second.value_or(0) != *primary ? second.value_or(0) : 0;
    return entries.each(
        first - first_of_table, last - first_of_table, [&](std::uint64_t index, ByteView entry) {
          const std::uint64_t grain = first_of_table + index;
          const Range range =
              intersect(part, {grain * layout_.grain_bytes(), layout_.grain_bytes()});
          std::optional<std::uint32_t> sector;
          if (!entry.empty()) sector = le32(entry, 0);
          if (spare != 0 && !is_good(sector)) {
            const auto other = entry_at(spare + index * 4);
            if (is_good(other)) {
              context_.report(FindingCode::container_table_copy, Severity::damage,
                              {entries.place_of(index), 4},
                              fmt::format("vmdk: the entry of grain {} is lost", grain),
                              "the second table's is used");
              sector = other;
            }
          }
          return visit(run_of(grain, range, sector, entries.place_of(index)));
        });
  }

  // Whether the entry names a grain that can be one.
  bool is_good(std::optional<std::uint32_t> sector) const {
    return sector && *sector > 1 && *sector >= layout_.metadata &&
           *sector * kSector < tables_->size();
  }

  Run run_of(std::uint64_t grain, Range range, std::optional<std::uint32_t> sector,
             std::uint64_t entry_at) const {
    Run run{Run::Kind::lost, range};
    if (!sector) {
      context_.report(FindingCode::container_table, Severity::damage, {entry_at, 4},
                      "vmdk: a grain table cannot be read here",
                      "its grains are treated as unreadable");
    } else if (*sector == 0) {
      run.kind = Run::Kind::absent;
    } else if (*sector == 1 && layout_.zero_grains) {
      run.kind = Run::Kind::zero;
    } else if (*sector < layout_.metadata) {
      context_.report(
          FindingCode::container_table, Severity::damage, {entry_at, 4},
          fmt::format("vmdk: grain {} points to sector {}, among the tables", grain, *sector),
          "the grain is treated as unreadable");
    } else if (layout_.packed) {
      pack(grain, *sector * kSector, run);
    } else {
      run.kind = Run::Kind::stored;
      run.file_offset = *sector * kSector + range.offset % layout_.grain_bytes();
      check_end(grain, *sector * kSector);
    }
    return run;
  }

  void check_end(std::uint64_t grain, std::uint64_t place) const {
    const std::uint64_t from = grain * layout_.grain_bytes();
    const std::uint64_t needed = std::min(layout_.grain_bytes(), layout_.disk_bytes() - from);
    if (place + needed > tables_->size())
      context_.report(FindingCode::container_past_end, Severity::damage, {from, needed},
                      fmt::format("vmdk: grain {} points to byte {} of the file, which has "
                                  "{}",
                                  grain, place, tables_->size()),
                      "what is not in the file is treated as unreadable");
  }

  void pack(std::uint64_t grain, std::uint64_t place, Run& run) const {
    run.unit = intersect({grain * layout_.grain_bytes(), layout_.grain_bytes()},
                         {0, layout_.disk_bytes()});
    run.file_offset = place;
    run.packed_bytes = 2 * layout_.grain_bytes();
    run.kind = Run::Kind::packed;
    if (!layout_.markers) return;
    Bytes marker(kMarkerBytes);
    const bool read = file_->read(place, marker).length == marker.size();
    if (!read || le64(marker, 0) != grain * layout_.grain ||
        le32(marker, 8) > 2 * layout_.grain_bytes()) {
      context_.report(
          FindingCode::container_table, Severity::damage, run.unit,
          fmt::format("vmdk: at byte {} there is not the grain {} the table says", place, grain),
          "the grain is treated as unreadable");
      run.kind = Run::Kind::lost;
      return;
    }
    run.file_offset = place + kMarkerBytes;
    run.packed_bytes = le32(marker, 8);
  }

  SourcePtr file_;
  SourcePtr tables_;
  Layout layout_;
  Context context_;
};

void check(const Layout& layout, const Context& context) {
  const auto fail = [&](std::uint64_t offset, const std::string& what) {
    throw Error(ErrorCode::cannot_read, context.address, offset, "vmdk: " + what,
                "look at the file with ::bytes");
  };
  constexpr std::uint64_t kMaxGrain = 1u << 16;
  constexpr std::uint64_t kMaxEntries = 1u << 20;
  if (!is_power_of_two(layout.grain) || layout.grain > kMaxGrain)
    fail(kGrainAt, fmt::format("invalid grain size: {} sectors", layout.grain));
  if (layout.table_entries == 0 || layout.table_entries > kMaxEntries)
    fail(kTableEntriesAt,
         fmt::format("invalid grain table size: {} entries", layout.table_entries));
  if (layout.capacity == 0 || layout.capacity > kMaxSectors)
    fail(kCapacityAt, fmt::format("invalid disk size: {} sectors", layout.capacity));
}

// The footer of a packed file, which knows where the directory is.
std::optional<Layout> read_footer(const ByteSource& file) {
  constexpr std::uint64_t kFooterFromEnd = 2 * kSector;
  if (file.size() < 4 * kSector) return std::nullopt;
  Bytes footer(kSector);
  file.read(file.size() - kFooterFromEnd, footer);
  if (!has_text(footer, 0, kMark) || le64(footer, kDirectoryAt) == kInFooter) return std::nullopt;
  return layout_of(footer);
}

DirectoryShape shape_of(const Layout& layout) {
  DirectoryShape shape;
  shape.tables = divide_up(divide_up(layout.capacity, layout.grain), layout.table_entries);
  shape.table_entries = layout.table_entries;
  shape.grain_bytes = layout.grain_bytes();
  shape.metadata_bytes = layout.metadata * kSector;
  return shape;
}

bool has_lost_entries(const ByteSource& file, std::uint64_t directory, std::uint64_t tables) {
  constexpr std::uint64_t kMaxTables = 1u << 17;
  if (directory == 0 || tables > kMaxTables) return directory == 0;
  Bytes entries(static_cast<std::size_t>(tables * 4));
  entries.resize(file.read(directory * kSector, entries).length / 4 * 4);
  for (std::size_t at = 0; at < entries.size(); at += 4)
    if (le32(entries, at) == 0 || le32(entries, at) * kSector >= file.size()) return true;
  return entries.size() < tables * 4;
}

// Where both directories have lost entries, the tables may still lie where every writer lays them.
void find_tables_behind(const ByteSource& file, Layout& layout, const Context& context) {
  const DirectoryShape shape = shape_of(layout);
  const bool first_hurt = has_lost_entries(file, layout.directory, shape.tables);
  const bool second_hurt = has_lost_entries(file, layout.second_directory, shape.tables);
  if (!first_hurt && second_hurt && layout.second_directory != 0)
    context.report(FindingCode::container_table_copy, Severity::warning,
                   {layout.second_directory * kSector, shape.tables * 4},
                   "vmdk: the second grain directory has lost entries", "the first is complete");
  if (!first_hurt || !second_hurt) return;
  for (const std::uint64_t directory : {layout.directory, layout.second_directory}) {
    if (directory == 0) continue;
    const std::uint64_t first = (directory + divide_up(shape.tables * 4, kSector)) * kSector;
    if (!are_grain_tables(file, first, shape)) continue;
    layout.tables_behind = first;
    context.report(FindingCode::container_rebuilt, Severity::damage,
                   {directory * kSector, shape.tables * 4},
                   "vmdk: both grain directories have lost entries",
                   fmt::format("the tables are taken from byte {} on, one behind the other: their "
                               "entries are grains of the file, each named once",
                               first));
    return;
  }
}

// The byte of the first table when they lie one behind the other, as every writer lays them; else
// 0.
std::uint64_t tables_in_line(const ByteSource& file, const Layout& layout) {
  if (layout.tables_behind != 0) return layout.tables_behind;
  constexpr std::uint64_t kMaxTables = 1u << 17;
  const std::uint64_t tables = shape_of(layout).tables;
  if (tables > kMaxTables) return 0;
  Bytes entries(static_cast<std::size_t>(tables * 4));
  if (file.read(layout.directory * kSector, entries).length < entries.size()) return 0;
  const std::uint64_t first = le32(entries, 0);
  for (std::uint64_t i = 0; i < tables; ++i)
    if (le32(entries, static_cast<std::size_t>(i * 4)) !=
        first + i * divide_up(layout.table_entries * 4, kSector))
      return 0;
  return first * kSector;
}

// The layout of a file whose first sector is lost: by its footer, by the descriptor behind it, or
// by `sectors` when the size of the disk is known from elsewhere; its tables by their shape.
std::optional<Layout> layout_without_header(const ByteSource& file, std::uint64_t sectors,
                                            const Context& context) {
  constexpr std::uint64_t kUsualGrain = 128;
  constexpr std::uint64_t kSearched = 64u << 20;
  if (auto footer = read_footer(file)) {
    context.report(FindingCode::container_header_copy, Severity::damage, {0, kSector},
                   "vmdk: the header is lost", "its copy in the footer is used");
    return footer;
  }
  Layout layout;
  layout.grain = kUsualGrain;
  bool packed = false;
  Bytes text(kSector * 20);
  text.resize(file.read(kSector, text).length);
  if (is_vmdk_descriptor(text)) {
    const VmdkDescriptor descriptor = parse_vmdk_descriptor(text_of(text));
    if (descriptor.extents.size() == 1 && descriptor.extents[0].kind == "SPARSE")
      sectors = descriptor.extents[0].sectors;
    packed = equal_ignoring_case(descriptor.create_type, "streamOptimized");
    layout.descriptor = {1, text.size() / kSector};
  }
  if (sectors == 0 || sectors > kMaxSectors) return std::nullopt;
  layout.capacity = sectors;
  if (packed) {
    layout.packed = true;
    layout.directory = kInFooter;  // which is lost, too: the grains are found by their markers
    return layout;
  }
  const auto tables = find_grain_tables(file, shape_of(layout), kSearched);
  if (!tables) return std::nullopt;
  layout.directory = tables->first / kSector - divide_up(tables->count * 4, kSector);
  layout.zero_grains = true;
  context.report(
      FindingCode::container_rebuilt, Severity::damage, {0, kSector}, "vmdk: the header is lost",
      fmt::format("the disk has {} sectors by its descriptor; a grain directory was found "
                  "by its shape at sector {}",
                  sectors, layout.directory));
  return layout;
}

Layout old_server_layout(ByteView header) {
  Layout layout;
  layout.variant = "server sparse";
  layout.capacity = le32(header, server::kCapacityAt);
  layout.grain = le32(header, server::kGrainAt);
  layout.directory = le32(header, server::kDirectoryAt);
  layout.table_entries = server::kTableEntries;
  layout.metadata = 4;
  return layout;
}

}  // namespace

std::optional<VmdkSparse> open_vmdk_sparse(const SourcePtr& file, std::uint64_t sectors,
                                           const Context& context) {
  Bytes header(kSector);
  if (file->read(0, header).length < header.size()) return std::nullopt;
  if (auto newer = open_vmdk_server_sparse(file, header, context)) return newer;
  Layout layout;
  bool stored_header = true;
  if (has_text(header, 0, server::kMark)) {
    layout = old_server_layout(header);
  } else if (has_text(header, 0, kMark)) {
    layout = layout_of(header);
  } else if (auto guessed = layout_without_header(*file, sectors, context)) {
    layout = *guessed;
    stored_header = false;
  } else {
    return std::nullopt;
  }
  if (layout.packed) layout.variant = "stream-optimised";
  check(layout, context);
  // Multiplied below: no file is larger.
  layout.metadata = std::min(layout.metadata, kMaxSectors);
  VmdkSparse result;
  result.variant = layout.variant;
  result.disk_bytes = layout.disk_bytes();
  result.grain_bytes = layout.grain_bytes();
  result.descriptor = intersect(
      {layout.descriptor.offset * kSector, layout.descriptor.length * kSector}, {0, file->size()});
  if (layout.descriptor.offset == 0 || layout.descriptor.offset > kMaxSectors ||
      layout.descriptor.length > kMaxSectors)
    result.descriptor = {};
  result.unclean = layout.unclean;
  if (layout.directory == kInFooter) {
    const auto footer = read_footer(*file);
    if (!footer || footer->directory * kSector >= file->size()) {
      result.map = scan_packed_grains(
          file, {layout.metadata * kSector, layout.grain_bytes(), layout.disk_bytes()}, context);
      return result;
    }
    layout.directory = footer->directory;
  }
  if (layout.directory > kMaxSectors || layout.directory * kSector >= file->size()) {
    const bool second = layout.second_directory != 0 && layout.second_directory <= kMaxSectors &&
                        layout.second_directory * kSector < file->size();
    context.report(
        FindingCode::container_table_copy, Severity::damage, {kDirectoryAt, 8},
        fmt::format("vmdk: the grain directory points to sector {}, outside the "
                    "file",
                    layout.directory),
        second ? "the second directory is used" : "every grain is treated as unreadable");
    layout.directory = second ? layout.second_directory : kMaxSectors;
  }
  if (layout.second_directory > kMaxSectors) layout.second_directory = 0;
  if (!layout.packed && layout.variant == "sparse") find_tables_behind(*file, layout, context);
  result.map = std::make_shared<SparseMap>(file, layout, context);
  result.takes_writes = stored_header && !layout.packed && layout.tables_behind == 0 &&
                        layout.directory != kMaxSectors;
  // The older server's header does not say where its tables end.
  if (!layout.packed && layout.variant == "sparse") {
    result.tables_at = tables_in_line(*file, layout);
    result.metadata_bytes = layout.metadata * kSector;
    if (layout.second_directory != 0 && layout.second_directory != layout.directory) {
      layout.directory = layout.second_directory;
      result.tables_copy_at = tables_in_line(*file, layout);
    }
  }
  return result;
}

std::shared_ptr<const BlockMap> mend_grain_tables(const SourcePtr& file, const VmdkSparse& sparse,
                                                  const Surroundings& around,
                                                  const Context& context) {
  if (sparse.tables_at == 0 || sparse.metadata_bytes == 0) return sparse.map;
  OneTable table;
  table.format = "vmdk";
  table.disk_bytes = sparse.disk_bytes;
  table.block_bytes = sparse.grain_bytes;
  table.blocks = {sparse.metadata_bytes,
                  file->size() - std::min(file->size(), sparse.metadata_bytes)};
  table.least_loose = 16;
  table.entry = [at = sparse.tables_at](std::uint64_t grain) { return Range{at + grain * 4, 4}; };
  table.entry_for = [](std::optional<std::uint64_t> place) {
    Bytes entry(kEntryBytes);
    store_le32(entry, 0, place.value_or(0) / kSector);
    return entry;
  };
  if (sparse.tables_copy_at != 0)
    table.to_copy = static_cast<std::int64_t>(sparse.tables_copy_at - sparse.tables_at);
  return mend_block_table(file, sparse.map, table, around, context);
}

}  // namespace lantern
