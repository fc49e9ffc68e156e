#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "container/chain.h"
#include "container/qcow/header.h"
#include "container/qcow/layout.h"
#include "container/qcow/qcow2.h"
#include "container/two_level.h"
#include "container/write/block_writer.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::size_t kHeaderBytes = 48;
constexpr std::uint64_t kMaxName = 1023;
constexpr std::uint64_t kMaxDisk = 1ull << 62;
constexpr std::uint64_t kPacked = 1ull << 63;

Run run_of(std::uint64_t entry, Range range, unsigned cluster_bits) {
  Run run{Run::Kind::absent, range};
  if (entry == 0) return run;
  const std::uint64_t cluster_bytes = 1ull << cluster_bits;
  if ((entry & kPacked) == 0) {
    run.kind = Run::Kind::stored;
    run.file_offset = (entry & (kPacked - 1)) + range.offset % cluster_bytes;
    return run;
  }
  const unsigned offset_bits = 63 - cluster_bits;
  run.kind = Run::Kind::packed;
  run.file_offset = entry & ((1ull << offset_bits) - 1);
  run.packed_bytes = (entry & (kPacked - 1)) >> offset_bits;
  run.unit = {range.offset / cluster_bytes * cluster_bytes, cluster_bytes};
  return run;
}

}  // namespace

std::optional<Container> open_qcow1(const SourcePtr& file, const Surroundings& around,
                                    const Context& context) {
  Bytes header(kHeaderBytes);
  if (file->read(0, header).length < header.size() || !has_text(header, 0, qcow::kMark) ||
      be32(header, 4) != 1)
    return std::nullopt;
  const auto fail = [&](ErrorCode code, std::uint64_t offset, const std::string& what) {
    throw Error(code, context.address, offset, "qcow: " + what, "look at the file with ::bytes");
  };
  const std::uint64_t disk_bytes = be64(header, 0x18);
  const unsigned cluster_bits = u8(header, 0x20);
  const unsigned table_bits = u8(header, 0x21);
  if (cluster_bits < 9 || cluster_bits > 16)
    fail(ErrorCode::cannot_read, 0x20,
         fmt::format("invalid cluster size: 2^{} bytes", cluster_bits));
  if (table_bits < 6 || table_bits > 13)
    fail(ErrorCode::cannot_read, 0x21, fmt::format("invalid table size: 2^{} entries", table_bits));
  if (disk_bytes > kMaxDisk)
    fail(ErrorCode::cannot_read, 0x18, fmt::format("invalid disk size: {} bytes", disk_bytes));
  if (be32(header, 0x24) != 0)
    fail(ErrorCode::unsupported, 0x24, "the disk is encrypted; not read yet");
  if (be64(header, 0x28) >= file->size())
    fail(ErrorCode::cannot_read, 0x28, "the first table points outside the file");
  Container container;
  container.format = "qcow";
  container.variant = "version 1";
  container.stored_bytes = file->size();
  Parent parent;
  const std::uint64_t name_at = be64(header, 0x08);
  const std::uint64_t name_bytes = std::min<std::uint64_t>(be32(header, 0x10), kMaxName);
  if (name_at != 0 && name_bytes > 0) {
    Bytes name(static_cast<std::size_t>(name_bytes));
    name.resize(file->read(name_at, name).length);
    parent = open_parent({qcow_parent_names(text_of(name)), {}, false}, around, context);
    container.chain = parent.chain;
  }
  TwoLevel layout;
  layout.format = "qcow";
  layout.level1_offset = be64(header, 0x28);
  layout.table_entries = 1ull << table_bits;
  layout.cluster_bytes = 1ull << cluster_bits;
  layout.disk_bytes = disk_bytes;
  layout.big_endian = true;
  layout.run_of = [cluster_bits](std::uint64_t entry, Range range) {
    return run_of(entry, range, cluster_bits);
  };
  const WriterMaker writer =
      [file, shape = TwoLevelShape{layout.level1_offset, layout.table_entries, layout.cluster_bytes,
                                   true}] { return make_two_level_writer(file, shape); };
  container.flat = make_mapped_disk({file, make_two_level_map(file, std::move(layout), context),
                                     disk_bytes, std::nullopt, parent.flat, parent.missing, writer},
                                    context);
  return container;
}

}  // namespace lantern
