#include "container/vmdk/grain_scan.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "container/inflate.h"
#include "container/vmdk/layout.h"

namespace lantern {
namespace {

using namespace vmdk;

constexpr std::size_t kMaxGrains = 4u << 20;

struct Grain {
  std::uint64_t place = 0;
  std::uint32_t packed_bytes = 0;
};

class FoundGrains final : public BlockMap {
 public:
  FoundGrains(std::map<std::uint64_t, Grain> grains, const GrainScan& scan, std::uint64_t sure_to)
      : grains_(std::move(grains)), scan_(scan), sure_to_(sure_to) {}

  std::uint64_t mapped_bytes() const override { return scan_.disk_bytes; }

  bool runs(Range range, const RunVisitor& visit) const override {
    std::uint64_t at = range.offset;
    while (at < range.end()) {
      const std::uint64_t number = at / scan_.grain_bytes;
      const auto next = grains_.lower_bound(number);
      if (next != grains_.end() && next->first == number) {
        Run run{Run::Kind::packed, {}};
        run.unit =
            intersect({number * scan_.grain_bytes, scan_.grain_bytes}, {0, scan_.disk_bytes});
        run.range = intersect({at, range.end() - at}, run.unit);
        run.file_offset = next->second.place + kMarkerBytes;
        run.packed_bytes = next->second.packed_bytes;
        if (!visit(run)) return false;
        at = run.range.end();
        continue;
      }
      const std::uint64_t gap_end = next == grains_.end()
                                        ? range.end()
                                        : std::min(range.end(), next->first * scan_.grain_bytes);
      // Grains come in the order of the disk: between two that were found nothing is missing.
      if (at < sure_to_) {
        const std::uint64_t to = std::min(gap_end, sure_to_);
        if (!visit({Run::Kind::absent, {at, to - at}})) return false;
        at = to;
      } else {
        if (!visit({Run::Kind::lost, {at, gap_end - at}})) return false;
        at = gap_end;
      }
    }
    return true;
  }

  std::size_t unpack(ByteView packed, std::span<std::byte> unit) const override {
    return inflate_block(Packing::zlib, packed, unit);
  }

 private:
  std::map<std::uint64_t, Grain> grains_;
  GrainScan scan_;
  std::uint64_t sure_to_;
};

std::uint64_t sectors_up(std::uint64_t bytes) {
  return (bytes + kSector - 1) / kSector * kSector;
}

}  // namespace

std::shared_ptr<const BlockMap> scan_packed_grains(const SourcePtr& file, const GrainScan& scan,
                                                   const Context& context) {
  std::map<std::uint64_t, Grain> grains;
  std::uint64_t last_number = 0;
  bool in_order = true;
  bool broken = false;
  std::uint64_t known_to = 0;
  Bytes marker(16);
  std::uint64_t at = std::max(sectors_up(scan.from), kSector);
  while (at + marker.size() <= file->size() && grains.size() < kMaxGrains) {
    if (grains.size() % 1024 == 0) context.check_cancelled();
    file->read(at, marker);
    const std::uint64_t sector = le64(marker, 0);
    const std::uint32_t bytes = le32(marker, 8);
    const bool grain = bytes > 0 && bytes <= 2 * scan.grain_bytes &&
                       sector < scan.disk_bytes / kSector &&
                       sector % (scan.grain_bytes / kSector) == 0 && u8(marker, 12) == 0x78;
    if (grain) {
      const std::uint64_t number = sector / (scan.grain_bytes / kSector);
      in_order = in_order && (grains.empty() || number > last_number);
      last_number = number;
      // The later of two is the newer.
      grains[number] = {at, bytes};
      at += sectors_up(kMarkerBytes + bytes);
      continue;
    }
    // Markers of tables and of the end say how many sectors follow. What they say excuses sectors
    // that are no marker, but none is passed over for it: a table may look like such a marker.
    constexpr std::uint32_t kLastType = 3;
    const bool other =
        bytes == 0 && le32(marker, 12) <= kLastType && sector <= (file->size() - at) / kSector;
    if (other && at >= known_to) known_to = at + kSector * (1 + sector);
    if (at >= known_to && !grains.empty()) broken = true;
    at += kSector;
  }
  const std::uint64_t sure_to =
      in_order && !broken && !grains.empty() ? (last_number + 1) * scan.grain_bytes : 0;
  context.report(FindingCode::container_rebuilt, Severity::damage, {file->size(), 0},
                 "vmdk: what says where the grain tables are is lost; the file may be cut",
                 fmt::format("{} grains were found by their markers; {}", grains.size(),
                             sure_to > 0 ? fmt::format("from byte {} of the disk on everything is "
                                                       "treated as unreadable",
                                                       sure_to)
                                         : "what was not found is treated as unreadable"));
  return std::make_shared<FoundGrains>(std::move(grains), scan, sure_to);
}

}  // namespace lantern
