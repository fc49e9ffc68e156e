#include "container/hdd/hard_disk.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/checked.h"
#include "container/hdd/hard_disk_map.h"
#include "container/mend.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::size_t kHeaderBytes = 64;
constexpr std::uint64_t kMaxSectors = 1ull << 53;
constexpr std::uint32_t kInUse = 0x746F6E59;

struct Layout {
  std::uint64_t cluster_bytes = 0;
  std::uint64_t entries = 0;
  std::uint64_t unit_bytes = 0;  // an entry times this is the place
  std::uint64_t disk_bytes = 0;
  std::uint64_t data_from = 0;
};

class HardDiskMap final : public BlockMap {
 public:
  HardDiskMap(const SourcePtr& file, const Layout& layout, const Context& context)
      : file_bytes_(file->size()),
        table_(make_cached(file, context), kHeaderBytes, 4),
        layout_(layout),
        context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(std::min(table_.room(), layout_.entries), layout_.cluster_bytes);
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t cluster_bytes = layout_.cluster_bytes;
    return table_.each(
        range.offset / cluster_bytes, (range.end() - 1) / cluster_bytes,
        [&](std::uint64_t cluster, ByteView entry) {
          return visit(
              run_of(cluster, entry, intersect(range, {cluster * cluster_bytes, cluster_bytes})));
        });
  }

 private:
  Run run_of(std::uint64_t cluster, ByteView entry, Range range) const {
    Run run{Run::Kind::lost, range};
    const Range where{table_.place_of(cluster), 4};
    if (entry.empty() || cluster >= layout_.entries) {
      context_.report(FindingCode::container_table, Severity::damage, where,
                      "hdd: the cluster table ends before the disk, or cannot be read",
                      "its clusters are treated as unreadable");
      return run;
    }
    const std::uint64_t place = le32(entry, 0) * layout_.unit_bytes;
    if (place == 0) {
      run.kind = Run::Kind::absent;
      return run;
    }
    if (place < layout_.data_from) {
      context_.report(
          FindingCode::container_table, Severity::damage, where,
          fmt::format("hdd: cluster {} points to byte {}, in the table", cluster, place),
          "it is treated as unreadable");
      return run;
    }
    run.kind = Run::Kind::stored;
    run.file_offset = place + range.offset % layout_.cluster_bytes;
    const std::uint64_t from = cluster * layout_.cluster_bytes;
    const std::uint64_t needed = std::min(layout_.cluster_bytes, layout_.disk_bytes - from);
    if (place > file_bytes_ || needed > file_bytes_ - place)
      context_.report(FindingCode::container_past_end, Severity::damage, {from, needed},
                      fmt::format("hdd: cluster {} points to byte {} of the file, which "
                                  "has {}",
                                  cluster, place, file_bytes_),
                      "what is not in the file is treated as unreadable");
    return run;
  }

  std::uint64_t file_bytes_;
  EntryTable table_;
  Layout layout_;
  Context context_;
};

}  // namespace

std::optional<MappedParts> map_hard_disk(const SourcePtr& file, bool alone,
                                         const Surroundings& around, const Context& context) {
  Bytes header(kHeaderBytes);
  if (file->read(0, header).length < header.size()) return std::nullopt;
  const bool large = has_text(header, 0, "WithouFreSpacExt");
  if (!large && !has_text(header, 0, "WithoutFreeSpace")) return std::nullopt;
  const auto fail = [&](std::uint64_t offset, const std::string& what) {
    throw Error(ErrorCode::cannot_read, context.address, offset, "hdd: " + what,
                "look at the file with ::bytes");
  };
  const std::uint64_t cluster_sectors = le32(header, 0x1C);
  const std::uint64_t sectors = large ? le64(header, 0x24) : le32(header, 0x24);
  constexpr std::uint64_t kMaxCluster = 1u << 20;
  if (cluster_sectors == 0 || cluster_sectors > kMaxCluster)
    fail(0x1C, fmt::format("invalid cluster size: {} sectors", cluster_sectors));
  if (sectors == 0 || sectors > kMaxSectors)
    fail(0x24, fmt::format("invalid disk size: {} sectors", sectors));
  Layout layout;
  layout.cluster_bytes = cluster_sectors * kSector;
  layout.entries = le32(header, 0x20);
  layout.unit_bytes = large ? layout.cluster_bytes : kSector;
  layout.disk_bytes = sectors * kSector;
  layout.data_from = kHeaderBytes + layout.entries * 4;
  if (le32(header, 0x2C) == kInUse)
    context.report(FindingCode::container_unclean, Severity::warning, {0x2C, 4},
                   "hdd: marked in use: it was not closed by its last writer",
                   "it is read as it is; what was written last may be missing");
  MappedParts parts;
  parts.file = file;
  parts.map = std::make_shared<HardDiskMap>(file, layout, context);
  const std::shared_ptr<const BlockMap> as_stored = parts.map;
  if (alone) {
    OneTable table;
    table.format = "hdd";
    table.disk_bytes = layout.disk_bytes;
    table.block_bytes = layout.cluster_bytes;
    const std::uint64_t said = std::uint64_t{le32(header, 0x30)} * kSector;
    const std::uint64_t from =
        said >= layout.data_from
            ? said
            : divide_up(layout.data_from, layout.cluster_bytes) * layout.cluster_bytes;
    table.blocks = {from, file->size() - std::min(file->size(), from)};
    table.whole = {kHeaderBytes, layout.entries * 4};
    table.entry = [](std::uint64_t block) { return Range{kHeaderBytes + block * 4, 4}; };
    parts.map = mend_block_table(file, parts.map, table, around, context);
  }
  parts.size_bytes = layout.disk_bytes;
  if (parts.map == as_stored) parts.writer = [file] { return make_hard_disk_writer(file); };
  return parts;
}

std::optional<Container> open_hard_disk(const SourcePtr& file, const Surroundings& around,
                                        const Context& context) {
  auto parts = map_hard_disk(file, true, around, context);
  if (!parts) return std::nullopt;
  Container container;
  container.format = "hdd";
  container.variant = "expanding";
  container.stored_bytes = file->size();
  container.flat = make_mapped_disk(std::move(*parts), context);
  return container;
}

}  // namespace lantern
