#include "repair/grow/file_system/ntfs_growth.h"

#include <algorithm>
#include <optional>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/ntfs/boot.h"
#include "filesystem/ntfs/record.h"
#include "filesystem/ntfs/volume.h"
#include "lantern/error.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kSectorsAt = 0x28;  // of the boot sector
// Of an attribute that is not resident.
constexpr std::size_t kLengthAt = 0x04, kLastAt = 0x18, kRunsAt = 0x20, kAllocatedAt = 0x28,
                      kSizeAt = 0x30, kWrittenAt = 0x38;
constexpr std::size_t kUsedAt = 0x18;                                             // of a record
constexpr std::uint64_t kMirror = 1, kVolume = 3, kBitmap = 6, kBadClusters = 8;  // records
constexpr std::uint64_t kMaxBitmap = 1u << 30;                                    // bytes

// A number in as few bytes as hold it and its sign.
Bytes packed(std::int64_t number) {
  Bytes bytes;
  do {
    bytes.push_back(static_cast<std::byte>(number));
    number >>= 8;
  } while (number != 0 && number != -1);
  // The last byte has to say the sign.
  const bool negative = number < 0;
  if (((std::to_integer<unsigned>(bytes.back()) & 0x80) != 0) != negative)
    bytes.push_back(negative ? std::byte{0xFF} : std::byte{0});
  return bytes;
}

// `first`: against the run before; empty: the clusters are nowhere.
void add_run(Bytes& list, std::uint64_t clusters, std::optional<std::int64_t> first) {
  const Bytes length = packed(static_cast<std::int64_t>(clusters));
  const Bytes place = first ? packed(*first) : Bytes();
  list.push_back(static_cast<std::byte>(place.size() << 4 | length.size()));
  list.insert(list.end(), length.begin(), length.end());
  list.insert(list.end(), place.begin(), place.end());
}

class NtfsGrowth {
 public:
  NtfsGrowth(const SourcePtr& volume, std::string address)
      : volume_(*volume), address_(std::move(address)), boot_(read_bytes(volume_, 0, kSector)) {
    const auto geometry = ntfs::parse_boot_sector(boot_);
    if (!geometry) refuse("the boot sector of the file system is damaged", "repair it first");
    geometry_ = *geometry;
  }

  GrownFileSystem run() {
    const std::uint64_t cluster = geometry_.cluster_bytes, sector = geometry_.sector_bytes;
    GrownFileSystem grown;
    grown.before_bytes = grown.after_bytes = le64(boot_, kSectorsAt) * sector;
    // The last sector is that of the copy.
    const std::uint64_t sectors = volume_.size() / sector - 1;
    before_ = grown.before_bytes / cluster;
    after_ = sectors * sector / cluster;
    if (after_ <= before_) return grown;
    check();
    bitmap();
    bad_clusters();
    Bytes boot = boot_;
    store_le64(boot, kSectorsAt, sectors);
    writes_.push_back({sectors * sector, boot});
    writes_.push_back({0, std::move(boot)});
    grown.after_bytes = sectors * sector;
    grown.more_free_bytes = free_ * cluster;
    grown.writes = std::move(writes_);
    return grown;
  }

 private:
  [[noreturn]] void refuse(const std::string& what, const std::string& next) const {
    throw Error(ErrorCode::refused, address_, std::nullopt, what, next);
  }
  [[noreturn]] void not_yet(const std::string& what) const {
    throw Error(ErrorCode::unsupported, address_, std::nullopt, what,
                "grow it with its own system's tools");
  }

  // The first records of the table lie in its first run.
  std::uint64_t place_of(std::uint64_t number) const {
    return geometry_.table_cluster * geometry_.cluster_bytes + number * geometry_.record_bytes;
  }
  ntfs::Record record(std::uint64_t number) const {
    auto found = ntfs::parse_record(
        read_bytes(volume_, place_of(number), static_cast<std::size_t>(geometry_.record_bytes)));
    if (!found || found->torn || !found->in_use)
      refuse("a record of the file system's own is damaged", "repair it first");
    return std::move(*found);
  }

  void check() const {
    constexpr std::size_t kFlagsAt = 0x0A;
    constexpr std::uint16_t kDirty = 1;
    const ntfs::Record volume = record(kVolume);
    const ntfs::Attribute* const information = volume.find(ntfs::kVolumeInformation);
    if (information == nullptr || !information->resident ||
        information->value.length < kFlagsAt + 2)
      refuse("the record of the volume is damaged", "repair it first");
    if ((le16(volume.value_of(*information), kFlagsAt) & kDirty) != 0)
      refuse("the file system is marked as to be checked",
             "let Windows check it (chkdsk /f), shut it down, and run this again");
  }

  // The one list of runs that an attribute has, whole in its record.
  static const ntfs::Attribute* whole_data(const ntfs::Record& record, std::string_view name) {
    const ntfs::Attribute* found = nullptr;
    for (const ntfs::Attribute& one : record.attributes)
      if (one.type == ntfs::kData && one.name == name) {
        if (found != nullptr || one.resident || one.first_vcn != 0) return nullptr;
        found = &one;
      }
    return record.find(ntfs::kAttributeList) == nullptr ? found : nullptr;
  }

  // The attribute with another list of runs, its record put back with its guard numbers.
  void store(ntfs::Record& own, std::uint64_t number, const ntfs::Attribute& attribute,
             const Bytes& runs, std::uint64_t clusters, std::uint64_t size,
             std::optional<std::uint64_t> written) {
    Bytes& bytes = own.bytes;
    const auto runs_at = static_cast<std::size_t>(attribute.runs.offset);
    const std::size_t at = start_of(bytes, runs_at);
    const std::size_t old_end = at + le32(bytes, at + kLengthAt);
    const std::size_t length = (runs_at - at + runs.size() + 7) / 8 * 8;
    const std::size_t used = le32(bytes, kUsedAt);
    if (used < old_end || used > bytes.size())
      refuse("a record of the file system's own is damaged", "repair it first");
    const Bytes behind(bytes.begin() + static_cast<std::ptrdiff_t>(old_end),
                       bytes.begin() + static_cast<std::ptrdiff_t>(used));
    if (at + length + behind.size() > bytes.size())
      not_yet("the record of the cluster bitmap has no room for another run");
    std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(runs_at), bytes.end(), std::byte{0});
    store_bytes(bytes, runs_at, runs);
    store_bytes(bytes, at + length, behind);
    store_le32(bytes, at + kLengthAt, length);
    store_le64(bytes, at + kLastAt, clusters - 1);
    store_le64(bytes, at + kAllocatedAt, clusters * geometry_.cluster_bytes);
    store_le64(bytes, at + kSizeAt, size);
    if (written) store_le64(bytes, at + kWrittenAt, *written);
    store_le32(bytes, kUsedAt, at + length + behind.size());
    guard(bytes);
    // The mirror of the table has as many records as go into its cluster.
    const ntfs::Record mirror = record(kMirror);
    const ntfs::Attribute* const copies = whole_data(mirror, {});
    if (copies == nullptr) not_yet("the mirror of the file table goes on in other records");
    if (number < copies->size_bytes / geometry_.record_bytes) {
      const std::uint64_t place =
          saturating_mul(geometry_.mirror_cluster, geometry_.cluster_bytes) +
          number * geometry_.record_bytes;
      const std::size_t whole = geometry_.record_bytes;
      if (geometry_.mirror_cluster >= before_ ||
          read_bytes(volume_, place, whole) != read_bytes(volume_, place_of(number), whole))
        refuse("the mirror of the file table is not where it belongs", "repair it first");
      writes_.push_back({place, bytes});
    }
    writes_.push_back({place_of(number), bytes});
  }
  // Of the attribute whose runs lie here.
  std::size_t start_of(ByteView bytes, std::size_t runs_at) const {
    for (std::size_t at = le16(bytes, 0x14); at + 8 <= bytes.size();) {
      const std::uint32_t length = le32(bytes, at + kLengthAt);
      if (runs_at > at && runs_at < at + length && at + le16(bytes, at + kRunsAt) == runs_at)
        return at;
      if (length < 8 || le32(bytes, at) == 0xFFFFFFFF) break;
      at += length;
    }
    refuse("a record of the file system's own is damaged", "repair it first");
  }
  static void guard(Bytes& bytes) {
    const std::size_t at = le16(bytes, 4), count = le16(bytes, 6);
    for (std::size_t i = 1; i < count; ++i) {
      const std::size_t end = i * kSector - 2;
      store_le16(bytes, at + 2 * i, le16(bytes, end));
      store_le16(bytes, end, le16(bytes, at));
    }
  }

  void bitmap() {
    const std::uint64_t cluster = geometry_.cluster_bytes;
    ntfs::Record own = record(kBitmap);
    const ntfs::Attribute* const data = whole_data(own, {});
    if (data == nullptr) not_yet("the cluster bitmap goes on in other records");
    std::vector<ntfs::Run> runs;
    const ByteView list = slice(own.bytes, static_cast<std::size_t>(data->runs.offset),
                                static_cast<std::size_t>(data->runs.length));
    ntfs::add_runs(list, 0, before_, runs);
    const std::uint64_t size = divide_up(after_, 64) * 8, had = divide_up(before_, 8);
    std::uint64_t clusters = 0;
    for (const ntfs::Run& run : runs) clusters += run.count;
    if (runs.empty() || clusters * cluster != data->allocated_bytes || size > kMaxBitmap ||
        data->size_bytes < had)
      refuse("the cluster bitmap is damaged", "repair it first");
    // It says of itself, of the file table and of the boot sector that they are in use.
    for (const std::uint64_t known :
         {runs.front().lcn, geometry_.table_cluster, std::uint64_t{0}}) {
      Bytes byte(1);
      read_at(runs, known / 8, byte);
      if ((std::to_integer<unsigned>(byte[0]) >> known % 8 & 1) == 0)
        refuse("the cluster bitmap is not where it belongs", "repair it first");
    }
    // All of it from the last byte that was in use on; clusters behind the end count as used.
    const std::uint64_t from = before_ / 8;
    Bytes tail(static_cast<std::size_t>(size - from));
    Bytes kept(1);
    if (before_ % 8 != 0) read_at(runs, from, kept);
    tail[0] = kept[0] & static_cast<std::byte>((1u << before_ % 8) - 1);
    const std::uint64_t more = size > clusters * cluster ? divide_up(size, cluster) - clusters : 0;
    const auto mark = [&](std::uint64_t first, std::uint64_t end) {
      for (std::uint64_t bit = first; bit < end; ++bit)
        tail[static_cast<std::size_t>(bit / 8 - from)] |= static_cast<std::byte>(1u << bit % 8);
    };
    mark(before_, before_ + more);
    mark(after_, size * 8);
    free_ = after_ - before_ - more;
    Bytes renewed;
    for (const std::byte b : list) renewed.push_back(b);
    // Behind the end of the list there may be anything.
    renewed.resize(end_of(list));
    if (more > 0) {
      const std::int64_t last = static_cast<std::int64_t>(runs.back().lcn);
      add_run(renewed, more, static_cast<std::int64_t>(before_) - last);
      runs.push_back({clusters, before_, more, false});
    }
    renewed.push_back(std::byte{0});
    write_at(runs, from, tail);
    store(own, kBitmap, *data, renewed, clusters + more, size, size);
  }

  // Bytes of a list of runs, without its end.
  std::size_t end_of(ByteView list) const {
    std::size_t at = 0;
    while (at < list.size() && u8(list, at) != 0)
      at += 1u + (u8(list, at) & 15u) + (u8(list, at) >> 4);
    if (at > list.size()) refuse("the cluster bitmap is damaged", "repair it first");
    return at;
  }

  // `use`: with a place of the volume, and how many bytes from which on.
  template <typename Use>
  void each_piece(const std::vector<ntfs::Run>& runs, std::uint64_t from, std::uint64_t length,
                  Use use) const {
    const std::uint64_t cluster = geometry_.cluster_bytes;
    for (const ntfs::Run& run : runs) {
      const Range piece = intersect({run.vcn * cluster, run.count * cluster}, {from, length});
      if (!piece.empty())
        use(run.lcn * cluster + (piece.offset - run.vcn * cluster), piece.offset - from,
            piece.length);
    }
  }
  void read_at(const std::vector<ntfs::Run>& runs, std::uint64_t from, Bytes& out) const {
    each_piece(runs, from, out.size(),
               [&](std::uint64_t place, std::uint64_t at, std::uint64_t length) {
                 store_bytes(out, static_cast<std::size_t>(at),
                             read_bytes(volume_, place, static_cast<std::size_t>(length)));
               });
  }
  void write_at(const std::vector<ntfs::Run>& runs, std::uint64_t from, const Bytes& bytes) {
    each_piece(runs, from, bytes.size(),
               [&](std::uint64_t place, std::uint64_t at, std::uint64_t length) {
                 const ByteView part =
                     slice(bytes, static_cast<std::size_t>(at), static_cast<std::size_t>(length));
                 writes_.push_back({place, Bytes(part.begin(), part.end())});
               });
  }

  // One run that is nowhere, as long as the volume: no bad cluster is known.
  void bad_clusters() {
    ntfs::Record own = record(kBadClusters);
    const ntfs::Attribute* const data = whole_data(own, "$Bad");
    if (data == nullptr) not_yet("the list of bad clusters goes on in other records");
    std::vector<ntfs::Run> runs;
    const ByteView list = slice(own.bytes, static_cast<std::size_t>(data->runs.offset),
                                static_cast<std::size_t>(data->runs.length));
    if (list.empty() || u8(list, 0) >> 4 != 0 || end_of(list) != 1u + (u8(list, 0) & 15u))
      not_yet("bad clusters are noted");
    Bytes renewed;
    add_run(renewed, after_, std::nullopt);
    renewed.push_back(std::byte{0});
    store(own, kBadClusters, *data, renewed, after_, after_ * geometry_.cluster_bytes,
          std::nullopt);
  }

  const ByteSource& volume_;
  std::string address_;
  Bytes boot_;
  ntfs::Geometry geometry_;
  std::uint64_t before_ = 0, after_ = 0, free_ = 0;  // clusters
  std::vector<VolumeWrite> writes_;
};

}  // namespace

GrownFileSystem grow_ntfs(const SourcePtr& volume, const std::string& address, const Context&) {
  return NtfsGrowth(volume, address).run();
}

}  // namespace lantern::repair
