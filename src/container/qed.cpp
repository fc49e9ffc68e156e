#include "container/qed.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/checked.h"
#include "container/chain.h"
#include "container/two_level.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

constexpr std::size_t kHeaderBytes = 64;
constexpr std::uint64_t kMostDisk = 1ull << 62;
constexpr std::uint64_t kMostName = 1023;

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
  const std::uint64_t cluster_bytes = le32(header, 4);
  const std::uint64_t table_clusters = le32(header, 8);
  const std::uint64_t features = le64(header, 0x10);
  const std::uint64_t disk_bytes = le64(header, 0x30);
  if (!is_power_of_two(cluster_bytes) || cluster_bytes < 4096 || cluster_bytes > 64u << 20)
    fail(4, fmt::format("clusters of {} bytes are none", cluster_bytes));
  if (!is_power_of_two(table_clusters) || table_clusters > 16)
    fail(8, fmt::format("tables of {} clusters are none", table_clusters));
  if (disk_bytes > kMostDisk) fail(0x30, fmt::format("a disk of {} bytes is none", disk_bytes));
  if (le64(header, 0x28) >= file->size())
    fail(0x28, "the first table is said to lie outside the file");
  if ((features & 2) != 0)
    context.report(FindingCode::container_unclean, Severity::warning, {0x10, 8},
                   "qed: marked to be checked: it was not closed by its last writer",
                   "it is read as it lies");
  Container container;
  container.format = "qed";
  container.stored_bytes = file->size();
  Parent parent;
  if ((features & 1) != 0) {
    Bytes name(std::min<std::uint64_t>(le32(header, 0x3C), kMostName));
    name.resize(file->read(le32(header, 0x38), name).length);
    parent = open_parent({{text_of(name)}, {}, (features & 4) != 0}, around, context);
    container.chain = parent.chain;
  }
  TwoLevel layout;
  layout.format = "qed";
  layout.level1_offset = le64(header, 0x28);
  layout.table_entries = table_clusters * cluster_bytes / 8;
  layout.cluster_bytes = cluster_bytes;
  layout.disk_bytes = disk_bytes;
  layout.run_of = [cluster_bytes](std::uint64_t entry, Range range) {
    Run run{Run::Kind::absent, range};
    if (entry == 1) run.kind = Run::Kind::zero;
    if (entry <= 1) return run;
    run.kind = Run::Kind::stored;
    run.file_offset = entry / cluster_bytes * cluster_bytes + range.offset % cluster_bytes;
    return run;
  };
  container.flat = make_mapped_disk({file, make_two_level_map(file, std::move(layout), context),
                                     disk_bytes, std::nullopt, parent.flat, parent.missing},
                                    context);
  return container;
}

}  // namespace lantern
