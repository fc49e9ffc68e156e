// NTFS (layout: filesystem/ntfs/boot.h): the boot sector from its copy, or rebuilt from the file
// table; the first records of that from their mirror.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/ntfs/boot.h"
#include "filesystem/ntfs/record.h"
#include "filesystem/ntfs/volume.h"
#include "lantern/sources.h"
#include "repair/diagnose/volume_diagnosis.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMirrored = 4;  // records
// Where the boot code begins, and so much of it that something is there.
constexpr std::size_t kCodeAt = 0x54, kCodeStart = 32;
constexpr std::uint32_t kIndexRoot = 0x90;

struct Figure {
  std::size_t at, bytes;
  const char* name;
};
constexpr std::size_t kSectorsAt = 0x28;
constexpr std::array<Figure, 10> kFigures = {{
    {0, 3, "the jump at its start"},
    {3, 8, "the word NTFS"},
    {0x0B, 2, "bytes of a sector"},
    {0x0D, 1, "sectors of a cluster"},
    {kSectorsAt, 8, "sectors of the volume"},
    {0x30, 8, "the cluster of the file table"},
    {0x38, 8, "the cluster of its mirror"},
    {0x40, 4, "the size of a record"},
    {0x44, 4, "the size of an index buffer"},
    {510, 2, "the signature"},
}};
constexpr std::size_t kMaxWrong = 3;  // figures, of a boot sector that is still the volume's

bool is_record(ByteView bytes) {
  if (bytes.size() < 512 || !has_text(bytes, 0, "FILE")) return false;
  const auto record = ntfs::parse_record(Bytes(bytes.begin(), bytes.end()));
  return record && !record->torn;
}

// What the file table says of the volume it lies in.
struct Found {
  std::uint64_t cluster_bytes = 0;
  std::uint64_t table_cluster = 0;
  std::uint64_t mirror_cluster = 0;
  std::uint32_t record_bytes = 1024;
  std::uint32_t index_bytes = 0;  // 0: not known
  std::uint64_t clusters = 0;     // 0: not known
};

std::optional<std::uint64_t> first_cluster(ByteView bytes, std::uint32_t type) {
  const auto record = ntfs::parse_record(Bytes(bytes.begin(), bytes.end()));
  if (!record) return std::nullopt;
  for (const ntfs::Attribute& attribute : record->attributes) {
    if (attribute.type != type || attribute.resident || !attribute.name.empty()) continue;
    std::vector<ntfs::Run> runs;
    ntfs::add_runs(slice(record->bytes, static_cast<std::size_t>(attribute.runs.offset),
                         static_cast<std::size_t>(attribute.runs.length)),
                   0, ~std::uint64_t{0} >> 13, runs);
    if (!runs.empty() && !runs.front().hole) return runs.front().lcn;
  }
  return std::nullopt;
}

// `at`: where a record 0 lies; the table, or the mirror of it.
std::optional<Found> table_at(const ByteSource& volume, std::uint64_t at) {
  for (const std::uint32_t size : {1024u, 4096u, 512u, 2048u}) {
    const Bytes records = read_bytes(volume, at, std::size_t{size} * 12);
    if (records.size() < std::size_t{size} * kMirrored) continue;
    const ByteView first = ByteView(records).first(size);
    const ByteView second = ByteView(records).subspan(size, size);
    if (!is_record(first) || !is_record(second) || le32(first, 0x1C) != size) continue;
    const auto table = first_cluster(first, 0x80);
    const auto mirror = first_cluster(second, 0x80);
    if (!table || !mirror || *table == 0 || *mirror == 0) continue;
    Found found;
    found.record_bytes = size;
    found.table_cluster = *table;
    found.mirror_cluster = *mirror;
    const std::uint64_t from_table = at % *table == 0 ? at / *table : 0;
    const std::uint64_t from_mirror = at % *mirror == 0 ? at / *mirror : 0;
    for (const std::uint64_t bytes : {from_table, from_mirror}) {
      if (!is_power_of_two(bytes) || bytes < 512 || bytes > (2u << 20)) continue;
      // Both have to begin with a record 0.
      if (!has_text(read_bytes(volume, *table * bytes, 4), 0, "FILE") &&
          !has_text(read_bytes(volume, *mirror * bytes, 4), 0, "FILE"))
        continue;
      found.cluster_bytes = bytes;
      const Bytes all = read_bytes(volume, *table * bytes, std::size_t{size} * 12);
      for (std::size_t i = 0; i < 12 && all.size() == std::size_t{size} * 12; ++i) {
        const ByteView record = ByteView(all).subspan(i * size, size);
        const auto parsed = ntfs::parse_record(Bytes(record.begin(), record.end()));
        if (!parsed) continue;
        for (const ntfs::Attribute& a : parsed->attributes) {
          if (i == 8 && a.type == 0x80 && a.name == "$Bad") found.clusters = a.size_bytes / bytes;
          if (i == 5 && a.type == kIndexRoot && a.resident && a.value.length >= 16)
            found.index_bytes = le32(parsed->value_of(a), 8);
        }
      }
      return found;
    }
  }
  return std::nullopt;
}

// The places makers let the table and its mirror begin at.
std::optional<Found> find_table(const ByteSource& volume) {
  for (std::uint64_t cluster = 512; cluster <= (2u << 20); cluster *= 2)
    for (const std::uint64_t at :
         {4 * cluster, 0xC0000 * cluster, 2 * cluster, 16 * cluster, 8 * cluster, 5 * cluster,
          volume.size() / cluster / 2 * cluster, volume.size() / cluster / 3 * cluster})
      if (at < volume.size() && has_text(read_bytes(volume, at, 4), 0, "FILE"))
        if (const auto found = table_at(volume, at)) return found;
  return std::nullopt;
}

std::uint8_t size_code(std::uint64_t bytes, std::uint64_t cluster_bytes) {
  if (bytes >= cluster_bytes) return static_cast<std::uint8_t>(bytes / cluster_bytes);
  unsigned power = 0;
  while ((std::uint64_t{1} << power) < bytes) ++power;
  return static_cast<std::uint8_t>(256 - power);
}

class NtfsDiagnosis : VolumeDiagnosis {
 public:
  NtfsDiagnosis(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis)
      : VolumeDiagnosis(disk, volume, diagnosis), boot_(read_bytes(bytes_, 0, kSector)) {}

  void run() {
    if (boot_.size() < kSector) return;
    boot_sector();
    hidden();
    records();
  }

 private:
  // Over the figures.
  static bool jumps(ByteView sector) {
    constexpr std::uint8_t kMin = 0x54 - 2, kMax = 0x7F;
    return u8(sector, 0) == 0xE9 ||
           (u8(sector, 0) == 0xEB && u8(sector, 1) >= kMin && u8(sector, 1) <= kMax);
  }

  struct Candidate {
    ntfs::Geometry geometry;
    Bytes sector;
    unsigned points = 0;  // its figures that are those of the file table
    bool doubted = true;  // one of them is not
  };

  // The file table as its own first records tell of it, found by any of the boot sectors or
  // without.
  std::optional<Found> table_by(const std::vector<ntfs::Geometry>& geometries) const {
    for (const ntfs::Geometry& g : geometries)
      for (const std::uint64_t cluster : {g.table_cluster, g.mirror_cluster})
        if (cluster < g.cluster_count())
          if (const auto found = table_at(bytes_, cluster * g.cluster_bytes)) return found;
    return find_table(bytes_);
  }

  Candidate judged(const ntfs::Geometry& g, const Found& found) const {
    Candidate candidate{g, read_bytes(bytes_, g.place, kSector)};
    candidate.doubted = false;
    const auto asked = [&](bool right) {
      candidate.points += right ? 1u : 0u;
      candidate.doubted = candidate.doubted || !right;
    };
    asked(g.cluster_bytes == found.cluster_bytes);
    asked(g.table_cluster == found.table_cluster);
    asked(g.mirror_cluster == found.mirror_cluster);
    asked(g.record_bytes == found.record_bytes);
    asked(g.volume_bytes <= bytes_.size());
    asked(found.index_bytes == 0 || g.index_bytes == found.index_bytes);
    // Tools that let a volume grow do not all tell $BadClus: this decides between two, no more.
    candidate.points += g.cluster_count() == found.clusters ? 1u : 0u;
    return candidate;
  }

  void boot_sector() {
    const std::vector<ntfs::Geometry> geometries = ntfs::find_geometries(bytes_);
    const auto found = table_by(geometries);
    if (!found) return;
    std::optional<Candidate> own, copy;
    for (const ntfs::Geometry& g : geometries) {
      Candidate candidate = judged(g, *found);
      if (g.place == 0)
        own = std::move(candidate);
      else if (!copy || candidate.points > copy->points)
        copy = std::move(candidate);
    }
    const unsigned own_points = own ? own->points : 0;
    const bool own_jumps = jumps(boot_);
    if (copy && jumps(copy->sector) && !copy->doubted &&
        (copy->points > own_points || (copy->points == own_points && !own_jumps))) {
      // Boot code that is there stays: the copy may have another.
      const bool code_is_there =
          has_boot_mark(boot_) && !all_zero(slice(boot_, kCodeAt, kCodeStart));
      Bytes right = copy->sector;
      if (code_is_there) store_bytes(right, kCodeAt, slice(boot_, kCodeAt, 510 - kCodeAt));
      propose("ntfs.boot-sector", Certainty::certain,
              fmt::format("the {}boot sector, from its copy at byte {} of the volume",
                          code_is_there ? "figures of the " : "", copy->geometry.place),
              "it is lost or does not fit the file table; the copy does", 0, boot_, right);
      boot_ = right;
    } else if (own && own_jumps && !own->doubted) {
      mend_copy(*own, copy);
    } else {
      make_anew(*found);
    }
  }

  // The copy lies in the sector behind the volume, the last of its partition.
  void mend_copy(const Candidate& own, const std::optional<Candidate>& copy) {
    if (copy && copy->points >= own.points) return;
    const std::uint64_t at = own.geometry.volume_bytes;
    const Bytes there = read_bytes(bytes_, at, kSector);
    if (there.size() == kSector && at + own.geometry.sector_bytes == bytes_.size())
      propose("ntfs.boot-copy", Certainty::certain, "the copy of the boot sector",
              "it is lost or does not fit the file table; the boot sector does", at, there, boot_);
  }

  void make_anew(const Found& found) {
    const Bytes fresh = made_from(found);
    const std::vector<std::string> wrong = wrong_figures(fresh, found);
    const bool in_part = wrong.size() <= kMaxWrong;
    const Bytes made = in_part ? mended(fresh, found) : fresh;
    const std::uint64_t step_bytes = disk_.table.sector_size;
    const std::uint64_t last = bytes_.size() / step_bytes * step_bytes - step_bytes;
    const Bytes there = read_bytes(bytes_, last, kSector);
    RepairStep step;
    step.code = "ntfs.boot-sector";
    step.certainty = found.clusters != 0 || in_part ? Certainty::certain : Certainty::likely;
    step.what = in_part ? fmt::format("the boot sector and its copy: {}", fmt::join(wrong, ", "))
                        : "the boot sector and its copy, rebuilt from the file table";
    step.evidence = fmt::format(
        "the file table begins at cluster {} and its mirror at {}, with clusters of {} bytes{}{}",
        found.table_cluster, found.mirror_cluster, found.cluster_bytes,
        found.clusters != 0 ? fmt::format(", {} of them by $BadClus", found.clusters) : "",
        in_part ? "" : "; both are lost; the serial number and boot code are not known");
    change(step, 0, boot_, made);
    change(step, last, there, made);
    add(std::move(step));
    boot_ = made;
  }

  // What in the boot sector that is there is not as it should be.
  std::vector<std::string> wrong_figures(ByteView fresh, const Found& found) const {
    std::vector<std::string> wrong;
    for (const Figure& figure : kFigures)
      if (!as_it_should(figure, fresh, found)) wrong.emplace_back(figure.name);
    return wrong;
  }

  bool as_it_should(const Figure& figure, ByteView fresh, const Found& found) const {
    if (std::ranges::equal(slice(boot_, figure.at, figure.bytes),
                           slice(fresh, figure.at, figure.bytes)))
      return true;
    if (figure.at == 0) return jumps(boot_);
    // Of sectors there may be a few less than a partition has, and more than whole clusters.
    return figure.at == kSectorsAt && le64(boot_, kSectorsAt) <= le64(fresh, kSectorsAt) &&
           (found.clusters == 0 || le64(boot_, kSectorsAt) >= found.clusters * found.cluster_bytes /
                                                                  disk_.table.sector_size);
  }

  Bytes mended(ByteView fresh, const Found& found) const {
    Bytes sector = boot_;
    for (const Figure& figure : kFigures)
      if (!as_it_should(figure, fresh, found))
        store_bytes(sector, figure.at, slice(fresh, figure.at, figure.bytes));
    return sector;
  }

  Bytes made_from(const Found& found) const {
    Bytes s(kSector);
    const std::uint64_t step = disk_.table.sector_size;
    const std::uint64_t per_cluster = std::max<std::uint64_t>(found.cluster_bytes / step, 1);
    std::uint64_t sectors = bytes_.size() / step - 1;
    if (found.clusters != 0 && found.clusters < sectors / per_cluster)
      sectors = found.clusters * per_cluster;
    store_text(s, 0, "\xEB\x52\x90NTFS    ");
    store_le16(s, 0x0B, step);
    s[0x0D] = static_cast<std::byte>(per_cluster <= 128 ? per_cluster
                                                        : size_code(per_cluster, per_cluster * 2));
    s[0x15] = std::byte{0xF8};
    store_le16(s, 0x18, 63);
    store_le16(s, 0x1A, 255);
    store_le32(s, 0x1C, start_sector(step));
    store_le32(s, 0x24, 0x00800080);
    store_le64(s, 0x28, sectors);
    store_le64(s, 0x30, found.table_cluster);
    store_le64(s, 0x38, found.mirror_cluster);
    s[0x40] = static_cast<std::byte>(size_code(found.record_bytes, found.cluster_bytes));
    s[0x44] = static_cast<std::byte>(
        size_code(found.index_bytes != 0 ? found.index_bytes : 4096, found.cluster_bytes));
    store_text(s, 0x54, "\xCD\x18\xEB\xFE");  // asks the firmware for the next disk
    store_le16(s, kBootMarkAt, kBootMark);
    return s;
  }

  void hidden() {
    const std::uint64_t right = start_sector(std::max<std::uint64_t>(le16(boot_, 11), 1));
    if (le32(boot_, 0x1C) == right || !starts()) return;
    Bytes after = boot_;
    store_le32(after, 0x1C, right);
    propose(
        "ntfs.hidden-sectors", Certainty::certain,
        fmt::format("the boot sector says that {} sectors are before the volume", right),
        fmt::format("it says {}; its loader reads from there and finds nothing", le32(boot_, 0x1C)),
        0, boot_, after);
    boot_ = after;
  }

  // How much of a record is as the one of its number has to be; 0: it is none, or torn.
  static unsigned soundness(ByteView bytes, std::size_t number, const ntfs::Geometry& g) {
    if (!is_record(bytes)) return 0;
    const auto record = ntfs::parse_record(Bytes(bytes.begin(), bytes.end()));
    unsigned points = 1 + static_cast<unsigned>(record->attributes.size());
    const auto asked = [&](bool right) { points += right ? 1u : 0u; };
    asked(record->in_use);
    asked(record->is_base());
    asked(le32(bytes, 0x1C) == g.record_bytes);
    asked(record->find(ntfs::kStandardInformation) != nullptr);
    asked(record->find(ntfs::kFileName) != nullptr);
    if (number < 2)
      asked(first_cluster(bytes, ntfs::kData) ==
            (number == 0 ? g.table_cluster : g.mirror_cluster));
    return points;
  }

  // The first records and their mirror: one that is no record is made from one that is.
  void records() {
    std::optional<ntfs::Geometry> g;
    Bytes whole = read_bytes(bytes_, 0, kSector);
    store_bytes(whole, 0, boot_);
    for (const ntfs::Geometry& candidate : ntfs::find_geometries(*make_memory_source(whole)))
      if (candidate.place == 0) g = candidate;
    if (!g || g->table_cluster >= g->cluster_count() || g->mirror_cluster >= g->cluster_count())
      return;
    const std::uint64_t table = g->table_cluster * g->cluster_bytes;
    const std::uint64_t mirror = g->mirror_cluster * g->cluster_bytes;
    const std::size_t size = g->record_bytes;
    for (std::size_t i = 0; i < kMirrored; ++i) {
      const Bytes own = read_bytes(bytes_, table + i * size, size);
      const Bytes spare = read_bytes(bytes_, mirror + i * size, size);
      if (own.size() < size || spare.size() < size) return;
      const unsigned own_points = soundness(own, i, *g), spare_points = soundness(spare, i, *g);
      if (own_points == spare_points) continue;
      const bool own_good = own_points > spare_points;
      const bool none = std::min(own_points, spare_points) == 0;
      propose(own_good ? "ntfs.mirror-record" : "ntfs.table-record",
              none ? Certainty::certain : Certainty::likely,
              fmt::format("record {} of the {}", i,
                          own_good ? "mirror, from the file table" : "file table, from its mirror"),
              none ? "it is not a record, or torn; the other one is valid"
                   : "less of it can be what it is for than of the other one",
              (own_good ? mirror : table) + i * size, own_good ? spare : own,
              own_good ? own : spare);
    }
  }

  Bytes boot_;
};

}  // namespace

void diagnose_ntfs(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                   const Context& /*context*/) {
  NtfsDiagnosis(disk, volume, diagnosis).run();
}

}  // namespace lantern::repair
