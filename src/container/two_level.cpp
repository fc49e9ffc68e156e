#include "container/two_level.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

class TwoLevelMap final : public BlockMap {
 public:
  TwoLevelMap(const SourcePtr& file, TwoLevel layout, const Context& context)
      : tables_(make_cached(file, context)),
        layout_(std::move(layout)),
        level1_(tables_, layout_.level1_offset, 8),
        context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(level1_.room(), layout_.table_entries * layout_.cluster_bytes);
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t table_bytes = layout_.table_entries * layout_.cluster_bytes;
    return level1_.each(range.offset / table_bytes, (range.end() - 1) / table_bytes,
                        [&](std::uint64_t index, ByteView entry) {
                          return table_runs(index, entry,
                                            intersect(range, {index * table_bytes, table_bytes}),
                                            visit);
                        });
  }

  std::size_t unpack(ByteView packed, std::span<std::byte> unit) const override {
    return inflate_block(layout_.packing, packed, unit);
  }

 private:
  std::uint64_t value_of(ByteView entry) const {
    return layout_.big_endian ? be64(entry, 0) : le64(entry, 0);
  }

  bool lost(std::uint64_t place, std::string what, Range range, const RunVisitor& visit) const {
    context_.report(FindingCode::container_table, Severity::damage, {place, 8},
                    layout_.format + ": " + std::move(what),
                    "what it refers to is treated as unreadable");
    return visit({Run::Kind::lost, range});
  }

  bool table_runs(std::uint64_t index, ByteView entry, Range part, const RunVisitor& visit) const {
    const std::uint64_t place = level1_.place_of(index);
    if (entry.empty()) return lost(place, "the first table cannot be read here", part, visit);
    const std::uint64_t table = value_of(entry);
    if (table == 0) return visit({Run::Kind::absent, part});
    if (table >= tables_->size())
      return lost(place, fmt::format("a table points to byte {}", table), part, visit);
    const EntryTable level2(tables_, table, 8);
    const std::uint64_t cluster_bytes = layout_.cluster_bytes;
    const std::uint64_t first = index * layout_.table_entries;
    return level2.each(
        part.offset / cluster_bytes - first, (part.end() - 1) / cluster_bytes - first,
        [&](std::uint64_t within, ByteView cluster) {
          const Range range = intersect(part, {(first + within) * cluster_bytes, cluster_bytes});
          if (cluster.empty())
            return lost(level2.place_of(within), "a table cannot be read here", range, visit);
          const Run run = layout_.run_of(value_of(cluster), range);
          const std::uint64_t start = range.offset / cluster_bytes * cluster_bytes;
          const std::uint64_t needed = std::min(cluster_bytes, layout_.disk_bytes - start);
          const std::uint64_t from = run.file_offset - range.offset % cluster_bytes;
          if (run.kind == Run::Kind::stored &&
              (from > tables_->size() || needed > tables_->size() - from))
            context_.report(FindingCode::container_past_end, Severity::damage, {start, needed},
                            fmt::format("{}: a cluster points to byte {} of the file, "
                                        "which has {}",
                                        layout_.format, from, tables_->size()),
                            "what is not in the file is treated as unreadable");
          return visit(run);
        });
  }

  SourcePtr tables_;
  TwoLevel layout_;
  EntryTable level1_;
  Context context_;
};

}  // namespace

std::shared_ptr<const BlockMap> make_two_level_map(const SourcePtr& file, TwoLevel layout,
                                                   const Context& context) {
  return std::make_shared<TwoLevelMap>(file, std::move(layout), context);
}

}  // namespace lantern
