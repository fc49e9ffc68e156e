#include "container/qcow/header.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/json_reader.h"
#include "container/qcow/layout.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace qcow;

constexpr std::uint64_t kMaxName = 1023;
constexpr std::uint64_t kMaxDisk = 1ull << 62;
constexpr std::uint32_t kMaxSnapshots = 65'536;
constexpr std::uint64_t kKnownFeatures = 0x1F;
constexpr int kMaxNodes = 16;

std::string text_at(const ByteSource& file, std::uint64_t offset, std::uint64_t length) {
  Bytes bytes(static_cast<std::size_t>(length));
  bytes.resize(file.read(offset, bytes).length);
  return text_of(bytes);
}

void read_extensions(const ByteSource& file, Qcow2Header& header, std::uint64_t end) {
  constexpr std::uint32_t kDataFile = 0x44415441;
  constexpr std::uint32_t kBitmaps = 0x23852875;
  std::uint64_t at = header.header_bytes;
  Bytes head(8);
  while (at + head.size() <= end && file.read(at, head).length == head.size()) {
    const std::uint32_t type = be32(head, 0);
    const std::uint64_t length = be32(head, 4);
    at += head.size();
    if (type == 0 || length > end - at) return;
    if (type == kParentFormatExtension)
      header.parent_format = text_at(file, at, std::min(length, kMaxName));
    if (type == kDataFile) header.data_file = text_at(file, at, std::min(length, kMaxName));
    Bytes bitmaps(24);
    if (type == kBitmaps && length >= bitmaps.size() &&
        file.read(at, bitmaps).length == bitmaps.size()) {
      header.bitmap_count = be32(bitmaps, 0);
      header.bitmaps = {be64(bitmaps, 16), be64(bitmaps, 8)};
    }
    at += (length + 7) / 8 * 8;
  }
}

// The file name in a tree of nodes, whether nested or with dotted keys.
std::string json_file_name(const JsonValue& node, int depth) {
  if (depth > kMaxNodes) return {};
  std::string prefix;
  for (int i = 0; i < kMaxNodes; ++i, prefix += "file.")
    if (const JsonValue* const name = node.find(prefix + "filename");
        name != nullptr && name->kind() == JsonValue::Kind::text)
      return name->text();
  const JsonValue* const file = node.find("file");
  return file == nullptr ? std::string() : json_file_name(*file, depth + 1);
}

}  // namespace

std::optional<Qcow2Header> read_qcow2_header(const ByteSource& file, const Context& context) {
  Bytes bytes(kHeaderBytes);
  const std::size_t got = file.read(0, bytes).length;
  if (got < kVersion2Bytes || !has_text(bytes, 0, kMark) || be32(bytes, kVersionAt) == 1)
    return std::nullopt;
  const auto fail = [&](ErrorCode code, std::uint64_t offset, const std::string& what) {
    throw Error(code, context.address, offset, "qcow2: " + what, "look at the file with ::bytes");
  };
  Qcow2Header header;
  header.version = be32(bytes, kVersionAt);
  if (header.version != 2 && header.version != 3)
    fail(ErrorCode::unsupported, 4, fmt::format("version {} is not read", header.version));
  header.cluster_bits = be32(bytes, kClusterBitsAt);
  header.disk_bytes = be64(bytes, kDiskBytesAt);
  header.encryption = be32(bytes, kEncryptionAt);
  header.level1_entries = be32(bytes, kLevel1EntriesAt);
  header.level1_offset = be64(bytes, kLevel1OffsetAt);
  header.counts_offset = be64(bytes, kCountsOffsetAt);
  header.counts_clusters = be32(bytes, kCountsClustersAt);
  header.snapshot_count = be32(bytes, kSnapshotCountAt);
  header.snapshots_offset = be64(bytes, kSnapshotsOffsetAt);
  header.header_bytes = kVersion2Bytes;
  if (header.version == 3) {
    header.features = be64(bytes, kFeaturesAt);
    header.count_bits = 1u << std::min(be32(bytes, kCountBitsAt), 6u);
    header.header_bytes = std::max<std::uint64_t>(be32(bytes, kHeaderBytesAt), kHeaderBytes);
    if (header.header_bytes > kHeaderBytes) {
      Bytes packing(1);
      if (file.read(kPackingAt, packing).length == 1) header.packing = u8(packing, 0);
    }
  }
  if (header.cluster_bits < kMinClusterBits || header.cluster_bits > kMaxClusterBits)
    fail(ErrorCode::cannot_read, 0x14,
         fmt::format("invalid cluster size: 2^{} bytes", header.cluster_bits));
  if (header.disk_bytes > kMaxDisk)
    fail(ErrorCode::cannot_read, 0x18,
         fmt::format("invalid disk size: {} bytes", header.disk_bytes));
  if (header.encryption != 0)
    fail(ErrorCode::unsupported, kEncryptionAt, "the disk is encrypted; not read yet");
  if (header.packing > 1)
    fail(ErrorCode::unsupported, kPackingAt, fmt::format("packing {} is not read", header.packing));
  if ((header.features & ~kKnownFeatures) != 0)
    context.report(
        FindingCode::container_header, Severity::warning, {kFeaturesAt, 8},
        fmt::format("qcow2: features that are not known: {:#x}", header.features & ~kKnownFeatures),
        "read as if they were not set");
  const std::uint64_t name_at = be64(bytes, kParentOffsetAt);
  const std::uint64_t name_bytes = be32(bytes, kParentBytesAt);
  if (name_at != 0 && name_bytes > 0 && name_bytes <= kMaxName && name_at < file.size())
    header.parent_name = text_at(file, name_at, name_bytes);
  else if (name_at != 0 && name_bytes > 0)
    context.report(FindingCode::container_header, Severity::damage, {8, 12},
                   "qcow2: the name of the parent points to where it cannot be",
                   "the disk is read without a parent; what it does not hold reads as zeros");
  read_extensions(file, header, std::min(header.cluster_bytes(), file.size()));
  return header;
}

std::vector<Qcow2Snapshot> read_qcow2_snapshots(const ByteSource& file, const Qcow2Header& header,
                                                const Context& context) {
  std::vector<Qcow2Snapshot> snapshots;
  constexpr std::size_t kFixed = 40;
  constexpr std::uint64_t kMaxExtra = 1024;
  std::uint64_t at = header.snapshots_offset;
  for (std::uint32_t i = 0; i < std::min(header.snapshot_count, kMaxSnapshots); ++i) {
    Bytes fixed(kFixed);
    if (at >= file.size() || file.read(at, fixed).length < fixed.size() ||
        be32(fixed, 0x24) > kMaxExtra) {
      context.report(FindingCode::container_version, Severity::damage, {at, kFixed},
                     fmt::format("qcow2: the list of snapshots breaks off after {} of {}", i,
                                 header.snapshot_count),
                     "those before are listed");
      return snapshots;
    }
    Qcow2Snapshot snapshot;
    snapshot.place.offset = at;
    snapshot.level1_offset = be64(fixed, 0);
    snapshot.level1_entries = be32(fixed, 8);
    const std::uint64_t id_bytes = be16(fixed, 0x0C);
    const std::uint64_t name_bytes = be16(fixed, 0x0E);
    const std::uint64_t extra_bytes = be32(fixed, 0x24);
    snapshot.version.created = Timestamp{be32(fixed, 0x10), be32(fixed, 0x14), 1, false};
    snapshot.version.size_bytes = header.disk_bytes;
    if (extra_bytes >= 16) {
      Bytes extra(16);
      if (file.read(at + kFixed, extra).length == extra.size())
        snapshot.version.size_bytes = std::min(be64(extra, 8), kMaxDisk);
    }
    at += kFixed + extra_bytes;
    snapshot.version.id = text_at(file, at, id_bytes);
    snapshot.version.name = text_at(file, at + id_bytes, name_bytes);
    at = (at + id_bytes + name_bytes + 7) / 8 * 8;
    snapshot.place.length = at - snapshot.place.offset;
    snapshots.push_back(std::move(snapshot));
  }
  return snapshots;
}

std::vector<std::string> qcow_parent_names(const std::string& text) {
  constexpr std::string_view kJson = "json:";
  constexpr std::string_view kFile = "file:";
  if (text.starts_with(kJson)) {
    const auto node = JsonValue::parse(text.substr(kJson.size()));
    std::string name = node ? json_file_name(*node, 0) : std::string();
    if (name.empty()) return {text};
    return {std::move(name)};
  }
  return {text.starts_with(kFile) ? text.substr(kFile.size()) : text};
}

}  // namespace lantern
