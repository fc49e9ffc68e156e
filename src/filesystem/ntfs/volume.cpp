#include "filesystem/ntfs/volume.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <set>

#include "base/checked.h"

namespace lantern::ntfs {
namespace {

constexpr std::uint64_t kMaxListBytes = 256u << 10;  // as systems have it
// Records of a list that are not the file's, until the rest of it is not looked at.
constexpr std::size_t kMaxStrangers = 1024;
constexpr int kMaxPasses = 64;  // over the file table's own list
constexpr std::size_t kListEntry = 0x1A;
constexpr std::uint64_t kMaxRecords = std::uint64_t{1} << 32;

Stream& stream_of(File& file, const Attribute& attribute) {
  for (Stream& stream : file.streams)
    if (stream.type == attribute.type && stream.name == attribute.name) return stream;
  Stream& stream = file.streams.emplace_back();
  stream.type = attribute.type;
  stream.name = attribute.name;
  return stream;
}

void read_standard(File& file, ByteView value) {
  if (value.size() < 0x24) return;
  file.created = time_at(value, 0x00);
  file.modified = time_at(value, 0x08);
  file.changed = time_at(value, 0x10);
  file.accessed = time_at(value, 0x18);
  file.attributes = le32(value, 0x20);
  // Older volumes keep no id here.
  if (value.size() >= 0x38) file.security_id = le32(value, 0x34);
}

// `number`: of the record, an extension of the file's own perhaps.
void add_attribute(const Volume& volume, File& file, const Record& record, std::uint64_t number,
                   const Attribute& attribute) {
  if (attribute.type == kFileName && attribute.resident) {
    if (auto name = parse_file_name(record.value_of(attribute)))
      file.names.push_back(std::move(*name));
    return;
  }
  if (attribute.type == kStandardInformation && attribute.resident)
    return read_standard(file, record.value_of(attribute));
  Stream& stream = stream_of(file, attribute);
  if (attribute.resident || attribute.first_vcn == 0) {
    stream.flags = attribute.flags;
    stream.resident = attribute.resident;
    stream.compressed = attribute.compressed();
    stream.encrypted = attribute.encrypted();
    stream.size_bytes = attribute.size_bytes;
    stream.written_bytes = attribute.written_bytes;
    stream.unit_shift = attribute.unit_shift;
  } else if (stream.runs.empty()) {
    stream.resident = false;
  }
  if (attribute.resident) {
    const ByteView value = record.value_of(attribute);
    stream.value.assign(value.begin(), value.end());
    stream.value_place = volume.record_place(number).offset + attribute.value.offset;
  } else {
    add_runs(slice(record.bytes, static_cast<std::size_t>(attribute.runs.offset),
                   static_cast<std::size_t>(attribute.runs.length)),
             attribute.first_vcn, volume.geometry.cluster_count(), stream.runs);
  }
}

// Pieces may come in any order, and may speak of the same clusters twice.
void put_in_order(File& file) {
  for (Stream& stream : file.streams) {
    if (!std::is_sorted(stream.runs.begin(), stream.runs.end(),
                        [](const Run& a, const Run& b) { return a.vcn < b.vcn; }))
      std::stable_sort(stream.runs.begin(), stream.runs.end(),
                       [](const Run& a, const Run& b) { return a.vcn < b.vcn; });
    std::uint64_t end = 0;
    std::erase_if(stream.runs, [&](const Run& run) {
      if (run.vcn < end) return true;
      end = run.end();
      return false;
    });
  }
}

// The records a list of attributes names, besides the file's own.
std::vector<std::uint64_t> listed_records(ByteView list, std::uint64_t own) {
  std::vector<std::uint64_t> records;
  std::set<std::uint64_t> met = {own};
  for (std::size_t at = 0; at + kListEntry <= list.size();) {
    const std::size_t length = le16(list, at + 4);
    const std::uint64_t record = reference_at(list, at + 0x10).record;
    if (met.insert(record).second) records.push_back(record);
    if (length < kListEntry) break;
    at += length;
  }
  return records;
}

// Whether an extension belongs to this file; one that was deleted has counted its sequence on.
bool goes_on_with(const Record& extension, const File& file) {
  if (extension.base.record != file.number || extension.is_base()) return false;
  if (file.in_use) return extension.in_use && extension.base.sequence == file.sequence;
  return extension.base.sequence == file.sequence ||
         static_cast<std::uint16_t>(extension.base.sequence + 1) == file.sequence;
}

bool is_table(const Record& record) {
  const Attribute* const data = record.find(kData);
  return record.in_use && record.is_base() && data != nullptr && !data->resident;
}

void set_table(Volume& volume, const File& table) {
  const Stream* const data = table.find(kData);
  if (data == nullptr) return;
  volume.table_runs = data->runs;
  const std::uint64_t most = kMaxRecords * volume.geometry.record_bytes;
  Stream whole = *data;
  const std::uint64_t told =
      data->runs.empty() ? 0
                         : saturating_mul(data->runs.back().end(), volume.geometry.cluster_bytes);
  whole.size_bytes = std::min({whole.size_bytes, told, most});
  whole.written_bytes = whole.size_bytes;
  volume.table = volume.bytes_of(whole, volume.cached);
  // A table that is mostly holes is none: it may not be longer than what is stored of it bears.
  std::uint64_t stored = 0;
  for (const Run& run : volume.table_runs) {
    const std::uint64_t step = volume.geometry.cluster_bytes;
    const Range place = intersect({run.lcn * step, run.count * step}, {0, volume.there_bytes});
    if (run.hole || place.empty()) continue;
    volume.raw->extents(place, [&](const Extent& extent) {
      const bool nothing = extent.kind == ExtentKind::zero ||
                           extent.kind == ExtentKind::unallocated ||
                           extent.kind == ExtentKind::unreadable;
      if (!nothing) stored += extent.range.length;
      return true;
    });
  }
  const std::uint64_t most_bytes = saturating_mul(stored, 16);
  if (volume.table->size() > most_bytes) volume.table = make_window(volume.table, {0, most_bytes});
}

}  // namespace

const Stream* File::find(std::uint32_t type, const std::string& name) const {
  const auto found = std::find_if(streams.begin(), streams.end(), [&](const Stream& stream) {
    return stream.type == type && stream.name == name;
  });
  return found == streams.end() ? nullptr : &*found;
}

void add_runs(ByteView list, std::uint64_t first_vcn, std::uint64_t cluster_count,
              std::vector<Run>& runs) {
  std::uint64_t vcn = first_vcn;
  std::uint64_t lcn = 0;
  for (std::size_t at = 0; at < list.size();) {
    const std::size_t count_bytes = u8(list, at) & 0x0F;
    const std::size_t step_bytes = u8(list, at) >> 4;
    if (count_bytes == 0 || count_bytes > 8 || step_bytes > 8 ||
        count_bytes + step_bytes >= list.size() - at)
      return;
    std::uint64_t count = 0;
    for (std::size_t i = count_bytes; i-- > 0;) count = count << 8 | u8(list, at + 1 + i);
    std::uint64_t step = 0;
    for (std::size_t i = step_bytes; i-- > 0;)
      step = step << 8 | u8(list, at + 1 + count_bytes + i);
    // The step is signed.
    if (step_bytes > 0 && step_bytes < 8 && step >> (step_bytes * 8 - 1) != 0)
      step |= ~std::uint64_t{0} << (step_bytes * 8);
    const auto end = checked_add(vcn, count);
    if (count == 0 || !end || *end >> 52 != 0) return;
    if (step_bytes == 0) {
      runs.push_back({vcn, 0, count, true});
    } else {
      lcn += step;
      if (lcn >= cluster_count || count > cluster_count - lcn) return;
      runs.push_back({vcn, lcn, count, false});
    }
    vcn = *end;
    at += 1 + count_bytes + step_bytes;
  }
}

Range Volume::record_place(std::uint64_t number) const {
  const std::uint64_t at = number * geometry.record_bytes;
  const std::uint64_t vcn = at / geometry.cluster_bytes;
  for (const Run& run : table_runs)
    if (!run.hole && vcn >= run.vcn && vcn < run.end())
      return {(run.lcn + (vcn - run.vcn)) * geometry.cluster_bytes + at % geometry.cluster_bytes,
              geometry.record_bytes};
  return {};
}

std::optional<Record> Volume::record(std::uint64_t number) const {
  if (number >= records()) return std::nullopt;
  Bytes bytes(geometry.record_bytes);
  table->read(number * geometry.record_bytes, bytes);
  return parse_record(std::move(bytes));
}

File Volume::file_of(std::uint64_t number, const Record& record, const Numbers& more) const {
  File file;
  file.number = number;
  file.sequence = record.sequence;
  file.links = record.links;
  file.in_use = record.in_use;
  file.folder = record.folder;
  file.torn = record.torn;
  for (const Attribute& attribute : record.attributes)
    add_attribute(*this, file, record, number, attribute);
  Numbers further;
  if (const Stream* const list = file.find(kAttributeList)) {
    Bytes bytes;
    if (list->resident) {
      bytes = list->value;
    } else {
      bytes.resize(static_cast<std::size_t>(std::min(list->size_bytes, kMaxListBytes)));
      bytes.resize(bytes_of(*list, cached)->read(0, bytes).length);
    }
    further = listed_records(bytes, number);
  }
  const std::set<std::uint64_t> listed(further.begin(), further.end());
  std::copy_if(more.begin(), more.end(), std::back_inserter(further),
               [&](std::uint64_t other) { return !listed.contains(other); });
  std::size_t strangers = 0;
  for (const std::uint64_t other : further) {
    const auto extension = table ? this->record(other) : std::nullopt;
    if (!extension || !goes_on_with(*extension, file)) {
      file.parts_lost = true;
      if (++strangers == kMaxStrangers) break;
      continue;
    }
    file.torn = file.torn || extension->torn;
    for (const Attribute& attribute : extension->attributes)
      add_attribute(*this, file, *extension, other, attribute);
  }
  put_in_order(file);
  return file;
}

File Volume::file_of_extensions(const Numbers& records) const {
  File file;
  for (const std::uint64_t number : records)
    if (const auto extension = record(number)) {
      file.torn = file.torn || extension->torn;
      for (const Attribute& attribute : extension->attributes)
        add_attribute(*this, file, *extension, number, attribute);
    }
  put_in_order(file);
  // The first piece of a stream tells its size; without it, it ends where its runs do.
  for (Stream& stream : file.streams)
    if (!stream.resident && !stream.runs.empty() && stream.runs.front().vcn > 0)
      stream.size_bytes = stream.written_bytes =
          saturating_mul(stream.runs.back().end(), geometry.cluster_bytes);
  return file;
}

std::optional<File> Volume::file(std::uint64_t number, const Numbers& more) const {
  const auto own = record(number);
  if (!own) return std::nullopt;
  return file_of(number, *own, more);
}

SourcePtr Volume::bytes_of(const Stream& stream, const SourcePtr& from) const {
  if (stream.resident) return make_memory_source(stream.value);
  std::vector<Piece> pieces;
  std::uint64_t at = 0;
  const auto add = [&](ExtentKind kind, std::uint64_t length, std::uint64_t place) {
    length = std::min(length, stream.size_bytes - at);
    if (length == 0) return;
    pieces.push_back({kind, length, kind == ExtentKind::direct ? from : nullptr, place});
    at += length;
  };
  for (const Run& run : stream.runs) {
    const std::uint64_t start = saturating_mul(run.vcn, geometry.cluster_bytes);
    if (start >= stream.size_bytes) break;
    if (start > at) add(ExtentKind::unreadable, start - at, 0);
    add(run.hole ? ExtentKind::zero : ExtentKind::direct,
        saturating_mul(run.count, geometry.cluster_bytes), run.lcn * geometry.cluster_bytes);
  }
  if (at < stream.size_bytes) add(ExtentKind::unreadable, stream.size_bytes - at, 0);
  return make_joined(std::move(pieces));
}

void set_table(Volume& volume, const std::vector<TablePiece>& pieces) {
  const std::uint64_t cluster = volume.geometry.cluster_bytes;
  std::vector<Piece> bytes;
  std::uint64_t at = 0;
  for (const TablePiece& piece : pieces) {
    const auto end = checked_add(piece.table_offset, piece.length);
    const auto volume_end = checked_add(piece.volume_offset, piece.length);
    if (!end || !volume_end || *volume_end > volume.there_bytes || piece.table_offset < at ||
        *end / volume.geometry.record_bytes > kMaxRecords)
      continue;
    if (piece.table_offset > at)
      bytes.push_back({ExtentKind::unreadable, piece.table_offset - at, nullptr, 0});
    bytes.push_back({ExtentKind::direct, piece.length, volume.cached, piece.volume_offset});
    at = *end;
    // The clusters it lies in; a piece may begin within one.
    const std::uint64_t within = piece.volume_offset % cluster;
    if (within > piece.table_offset) continue;
    volume.table_runs.push_back({(piece.table_offset - within) / cluster,
                                 piece.volume_offset / cluster,
                                 divide_up(within + piece.length, cluster), false});
  }
  // The records of the file system itself are always asked for.
  const std::uint64_t own = kFirstOwnRecord * volume.geometry.record_bytes;
  if (at < own) bytes.push_back({ExtentKind::unreadable, own - at, nullptr, 0});
  volume.table = make_joined(std::move(bytes));
}

bool find_table(Volume& volume) {
  const Geometry& g = volume.geometry;
  for (const std::uint64_t cluster : {g.table_cluster, g.mirror_cluster}) {
    if (cluster >= g.cluster_count()) continue;
    Bytes bytes(g.record_bytes);
    const std::uint64_t place = cluster * g.cluster_bytes;
    if (volume.cached->read(place, bytes).length < bytes.size()) continue;
    const auto record = parse_record(std::move(bytes));
    if (!record || !is_table(*record)) continue;
    // Its list of attributes is read through what its own record tells of it, and again while that
    // tells of more.
    std::size_t known = 0;
    volume.table = nullptr;
    for (int pass = 0; pass < kMaxPasses; ++pass) {
      set_table(volume, volume.file_of(kTableRecord, *record));
      if (!volume.table || volume.table_runs.size() <= known) break;
      known = volume.table_runs.size();
    }
    if (!volume.table || volume.records() <= kRootRecord) continue;
    if (cluster != g.table_cluster)
      volume.context.report(FindingCode::ntfs_table, Severity::damage,
                            {g.table_cluster * g.cluster_bytes, g.record_bytes},
                            "the file table's own record cannot be read",
                            fmt::format("the copy of it at byte {} is used", place));
    return true;
  }
  return false;
}

}  // namespace lantern::ntfs
