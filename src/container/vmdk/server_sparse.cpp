#include "container/vmdk/server_sparse.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "container/vmdk/layout.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using namespace vmdk;

constexpr std::uint64_t kMaxSectors = 1ull << 50;
constexpr std::uint64_t kServerMark = 0x00000000CAFEBABE;
constexpr std::uint64_t kHere = 0x1000'0000'0000'0000;

struct Layout {
  std::uint64_t capacity = 0;
  std::uint64_t grain = 0;
  std::uint64_t table_sectors = 0;
  std::uint64_t directory = 0;
  std::uint64_t tables = 0;
  std::uint64_t grains = 0;

  std::uint64_t grain_bytes() const { return grain * kSector; }
  std::uint64_t table_entries() const { return table_sectors * kSector / 8; }
};

class ServerMap final : public BlockMap {
 public:
  ServerMap(const SourcePtr& file, const Layout& layout, const Context& context)
      : tables_(make_cached(file, context)), layout_(layout), context_(context) {}

  std::uint64_t mapped_bytes() const override {
    return saturating_mul(EntryTable(tables_, layout_.directory * kSector, 8).room(),
                          layout_.grain_bytes() * layout_.table_entries());
  }

  bool runs(Range range, const RunVisitor& visit) const override {
    const std::uint64_t grain_bytes = layout_.grain_bytes();
    const std::uint64_t table_bytes = grain_bytes * layout_.table_entries();
    const EntryTable directory(tables_, layout_.directory * kSector, 8);
    return directory.each(range.offset / table_bytes, (range.end() - 1) / table_bytes,
                          [&](std::uint64_t index, ByteView entry) {
                            return table_runs(index, entry, directory.place_of(index),
                                              intersect(range, {index * table_bytes, table_bytes}),
                                              visit);
                          });
  }

 private:
  bool table_runs(std::uint64_t index, ByteView entry, std::uint64_t entry_at, Range part,
                  const RunVisitor& visit) const {
    const std::uint64_t value = entry.empty() ? 1 : le64(entry, 0);
    if (value == 0) return visit({Run::Kind::absent, part});
    if (value >> 32 != kHere >> 32) return lost(entry_at, part, visit);
    const std::uint64_t place =
        (layout_.tables + (value & 0xFFFFFFFF) * layout_.table_sectors) * kSector;
    const EntryTable table(tables_, place, 8);
    const std::uint64_t first = index * layout_.table_entries();
    const std::uint64_t grain_bytes = layout_.grain_bytes();
    return table.each(part.offset / grain_bytes - first, (part.end() - 1) / grain_bytes - first,
                      [&](std::uint64_t within, ByteView grain) {
                        return grain_run(
                            grain, table.place_of(within),
                            intersect(part, {(first + within) * grain_bytes, grain_bytes}), visit);
                      });
  }

  bool grain_run(ByteView entry, std::uint64_t entry_at, Range range,
                 const RunVisitor& visit) const {
    if (entry.empty()) return lost(entry_at, range, visit);
    const std::uint64_t value = le64(entry, 0);
    switch (value >> 60) {
      case 0:
        if (value != 0) break;
        return visit({Run::Kind::absent, range});
      case 1:
      case 2:
        return visit({Run::Kind::zero, range});
      case 3: {
        // The low twelve bits of the grain's number stand above the others.
        const std::uint64_t number =
            (value & 0x0FFF'0000'0000'0000) >> 48 | (value & 0x0000'FFFF'FFFF'FFFF) << 12;
        if (number > tables_->size() / layout_.grain_bytes()) break;
        const std::uint64_t place = layout_.grains * kSector + number * layout_.grain_bytes();
        return visit({Run::Kind::stored, range, place + range.offset % layout_.grain_bytes()});
      }
      default:
        break;
    }
    return lost(entry_at, range, visit);
  }

  bool lost(std::uint64_t entry_at, Range range, const RunVisitor& visit) const {
    context_.report(FindingCode::container_table, Severity::damage, {entry_at, 8},
                    "vmdk: a table entry cannot be read or is invalid",
                    "what it refers to is treated as unreadable");
    return visit({Run::Kind::lost, range});
  }

  SourcePtr tables_;
  Layout layout_;
  Context context_;
};

}  // namespace

std::optional<VmdkSparse> open_vmdk_server_sparse(const SourcePtr& file, ByteView header,
                                                  const Context& context) {
  if (le64(header, 0) != kServerMark) return std::nullopt;
  Layout layout;
  layout.capacity = le64(header, 0x10);
  layout.grain = le64(header, 0x18);
  layout.table_sectors = le64(header, 0x20);
  layout.directory = le64(header, 0x80);
  layout.tables = le64(header, 0x90);
  layout.grains = le64(header, 0xC0);
  const auto fail = [&](std::uint64_t offset, const std::string& what) {
    throw Error(ErrorCode::cannot_read, context.address, offset, "vmdk: " + what,
                "look at the file with ::bytes");
  };
  if (layout.capacity == 0 || layout.capacity > kMaxSectors)
    fail(0x10, fmt::format("invalid disk size: {} sectors", layout.capacity));
  if (!is_power_of_two(layout.grain) || layout.grain > 1u << 16)
    fail(0x18, fmt::format("invalid grain size: {} sectors", layout.grain));
  if (layout.table_sectors == 0 || layout.table_sectors > 1u << 16)
    fail(0x20, fmt::format("invalid table size: {} sectors", layout.table_sectors));
  for (const auto& [field, sector] :
       {std::pair<std::uint64_t, std::uint64_t>{0x80, layout.directory},
        {0x90, layout.tables},
        {0xC0, layout.grains}})
    if (sector > file->size() / kSector)
      fail(field, fmt::format("sector {} is outside the file", sector));
  VmdkSparse result;
  result.variant = "newer server sparse";
  result.disk_bytes = layout.capacity * kSector;
  result.grain_bytes = layout.grain_bytes();
  result.map = std::make_shared<ServerMap>(file, layout, context);
  return result;
}

}  // namespace lantern
