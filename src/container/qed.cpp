#include "container/qed.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/bytes.h"
#include "base/checked.h"
#include "container/chain.h"
#include "container/two_level.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

constexpr std::size_t kHeaderBytes = 64;
constexpr std::uint64_t kMaxDisk = 1ull << 62;
constexpr std::uint64_t kMaxName = 1023;
constexpr std::uint64_t kMinCluster = 4096;
constexpr std::uint64_t kMaxTableClusters = 16;
// Tables of a lost header are looked for up to this size of clusters.
constexpr std::uint64_t kMaxClusterGuessed = 2u << 20;

struct Layout {
  std::uint64_t cluster_bytes = 0;
  std::uint64_t table_clusters = 0;
  std::uint64_t level1_offset = 0;
  std::uint64_t disk_bytes = 0;

  std::uint64_t table_entries() const { return table_clusters * cluster_bytes / 8; }
};

// `stored`: the header stands in the file as `layout` has it.
Container make_container(const SourcePtr& file, const Layout& layout, bool stored,
                         const Parent& parent, const Context& context) {
  TwoLevel levels;
  levels.format = "qed";
  levels.level1_offset = layout.level1_offset;
  levels.table_entries = layout.table_entries();
  levels.cluster_bytes = layout.cluster_bytes;
  levels.disk_bytes = layout.disk_bytes;
  levels.run_of = [cluster_bytes = layout.cluster_bytes](std::uint64_t entry, Range range) {
    Run run{Run::Kind::absent, range};
    if (entry == 1) run.kind = Run::Kind::zero;
    if (entry <= 1) return run;
    run.kind = Run::Kind::stored;
    run.file_offset = entry / cluster_bytes * cluster_bytes + range.offset % cluster_bytes;
    return run;
  };
  Container container;
  container.format = "qed";
  container.stored_bytes = file->size();
  container.chain = parent.chain;
  WriterMaker writer;
  if (stored)
    writer = [file, shape = TwoLevelShape{levels.level1_offset, levels.table_entries,
                                          levels.cluster_bytes, false}] {
      return make_two_level_writer(file, shape);
    };
  container.flat = make_mapped_disk(
      {file, make_two_level_map(file, std::move(levels), context), layout.disk_bytes, std::nullopt,
       parent.flat, parent.missing, std::move(writer)},
      context);
  return container;
}

// The entries of a table in use, with their index. Empty when it cannot be a table: an entry leads
// nowhere, or where another does.
std::vector<std::pair<std::uint64_t, std::uint64_t>> entries_at(const SourcePtr& file,
                                                                std::uint64_t at,
                                                                const Layout& layout,
                                                                std::uint64_t least) {
  std::vector<std::pair<std::uint64_t, std::uint64_t>> entries;
  std::set<std::uint64_t> places;
  const EntryTable table(file, at, 8);
  const bool fits =
      table.room() >= layout.table_entries() &&
      table.each(0, layout.table_entries() - 1, [&](std::uint64_t index, ByteView entry) {
        const std::uint64_t place = entry.empty() ? 0 : le64(entry, 0);
        if (place == 0) return index != least || !entries.empty();
        if (place != 1 && (place % layout.cluster_bytes != 0 || place >= file->size() ||
                           !places.insert(place).second))
          return false;
        entries.emplace_back(index, place);
        return true;
      });
  if (!fits) entries.clear();
  return entries;
}

// Bytes of the file that the tables explain if they lie like that, and where the disk then ends.
// None are explained when they cannot lie like that.
std::uint64_t bytes_explained(const SourcePtr& file, Layout& layout, const Context& context) {
  constexpr std::uint64_t kSoon = 512;  // one of so many first entries of level 1 is in use
  std::uint64_t explained = 0;
  for (const auto& [index, table] : entries_at(file, layout.level1_offset, layout, kSoon)) {
    context.check_cancelled();
    const auto clusters = entries_at(file, table, layout, layout.table_entries());
    if (clusters.empty()) return 0;
    explained += layout.table_clusters * layout.cluster_bytes;
    for (const auto& cluster : clusters)
      if (cluster.second != 1) explained += layout.cluster_bytes;
    layout.disk_bytes =
        (index * layout.table_entries() + clusters.back().first + 1) * layout.cluster_bytes;
  }
  return explained;
}

}  // namespace

std::optional<Container> open_qed(const SourcePtr& file, const Surroundings& around,
                                  const Context& context) {
  Bytes header(kHeaderBytes);
  if (file->read(0, header).length < header.size() || !has_text(header, 0, "QED\0"sv))
    return std::nullopt;
  const auto fail = [&](std::uint64_t offset, const std::string& what) {
    throw Error(ErrorCode::cannot_read, context.address, offset, "qed: " + what,
                "look at the file with ::bytes");
  };
  Layout layout;
  layout.cluster_bytes = le32(header, 4);
  layout.table_clusters = le32(header, 8);
  layout.level1_offset = le64(header, 0x28);
  layout.disk_bytes = le64(header, 0x30);
  const std::uint64_t features = le64(header, 0x10);
  if (!is_power_of_two(layout.cluster_bytes) || layout.cluster_bytes < kMinCluster ||
      layout.cluster_bytes > 64u << 20)
    fail(4, fmt::format("invalid cluster size: {} bytes", layout.cluster_bytes));
  if (!is_power_of_two(layout.table_clusters) || layout.table_clusters > kMaxTableClusters)
    fail(8, fmt::format("invalid table size: {} clusters", layout.table_clusters));
  if (layout.disk_bytes > kMaxDisk)
    fail(0x30, fmt::format("invalid disk size: {} bytes", layout.disk_bytes));
  if (layout.level1_offset >= file->size()) fail(0x28, "the first table points outside the file");
  if ((features & 2) != 0)
    context.report(FindingCode::container_unclean, Severity::warning, {0x10, 8},
                   "qed: marked to be checked: it was not closed by its last writer",
                   "it is read as it is");
  Parent parent;
  if ((features & 1) != 0) {
    Bytes name(std::min<std::uint64_t>(le32(header, 0x3C), kMaxName));
    name.resize(file->read(le32(header, 0x38), name).length);
    parent = open_parent({{text_of(name)}, {}, (features & 4) != 0}, around, context);
  }
  return make_container(file, layout, true, parent, context);
}

std::optional<Container> open_headless_qed(const SourcePtr& file, const Surroundings& around,
                                           const Context& context) {
  // Level 1 follows the header's one cluster. Of the sizes that fit, the right one explains most.
  Layout best;
  std::uint64_t most = 0;
  for (Layout layout{kMinCluster, 1, 0, 0}; layout.cluster_bytes <= kMaxClusterGuessed;
       layout.cluster_bytes *= 2) {
    layout.level1_offset = layout.cluster_bytes;
    for (layout.table_clusters = 1; layout.table_clusters <= kMaxTableClusters;
         layout.table_clusters *= 2) {
      const std::uint64_t explained = bytes_explained(file, layout, context);
      if (explained <= most) continue;
      most = explained;
      best = layout;
    }
  }
  if (most == 0) return std::nullopt;
  Container container = make_container(file, best, false, {}, context);
  std::string size = "as far as it is stored";
  const std::uint64_t inside = around.size_inside ? around.size_inside(container.flat) : 0;
  if (inside > best.disk_bytes &&
      inside / best.cluster_bytes / best.table_entries() < best.table_entries()) {
    best.disk_bytes = inside;
    container = make_container(file, best, false, {}, context);
    size = "as large as the partition table inside says";
  }
  context.report(FindingCode::container_header, Severity::damage, {0, kHeaderBytes},
                 "qed: the header is lost",
                 fmt::format("known by the tables after it, of {} clusters of {} bytes; the disk "
                             "is {}, and whether it had a parent is not known",
                             best.table_clusters, best.cluster_bytes, size));
  return container;
}

}  // namespace lantern
