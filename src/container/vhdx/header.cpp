#include "container/vhdx/header.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/guid.h"
#include "base/utf16.h"
#include "container/vhdx/layout.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using namespace vhdx;

constexpr std::uint64_t kMaxItem = 1u << 20;
constexpr std::uint64_t kMaxDisk = 64ull << 40;

struct Copy {
  Bytes bytes;
  bool here = false;
  bool right = false;
};

Copy read_copy(const ByteSource& file, std::uint64_t at, std::size_t length,
               std::string_view mark) {
  Copy copy;
  copy.bytes.resize(length);
  const ReadResult got = file.read(at, copy.bytes);
  copy.here = got.length == length && has_text(copy.bytes, 0, mark);
  copy.right =
      got.length == length && got.unreadable.empty() && is_summed(copy.bytes, length, mark);
  return copy;
}

std::string unbraced(std::string text) {
  std::erase_if(text, [](char c) { return c == '{' || c == '}'; });
  std::transform(text.begin(), text.end(), text.begin(), [](char c) {
    return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  });
  return text;
}

void read_parent(ByteView item, VhdxMetadata& metadata) {
  if (item.size() < 20) return;
  std::map<std::string, std::string> values;
  const std::size_t count = le16(item, 18);
  for (std::size_t at = 20, i = 0; i < count && at + 12 <= item.size(); ++i, at += 12) {
    const std::size_t key = le32(item, at);
    const std::size_t value = le32(item, at + 4);
    const std::size_t key_bytes = le16(item, at + 8);
    const std::size_t value_bytes = le16(item, at + 10);
    if (key > item.size() || key_bytes > item.size() - key || value > item.size() ||
        value_bytes > item.size() - value)
      continue;
    values[utf16le_text(item.subspan(key, key_bytes))] =
        utf16le_text(item.subspan(value, value_bytes));
  }
  metadata.parent_id = unbraced(values["parent_linkage"]);
  for (const char* key : {"relative_path", "absolute_win32_path", "volume_path"})
    if (!values[key].empty()) metadata.parent_names.push_back(values[key]);
}

}  // namespace

std::optional<VhdxHeader> read_vhdx_header(const ByteSource& file, const Context* context) {
  std::optional<VhdxHeader> best;
  for (const std::uint64_t at : kHeadersAt) {
    const Copy copy = read_copy(file, at, kHeaderBytes, header::kMark);
    if (!copy.right) {
      if (context != nullptr)
        context->report(FindingCode::container_header_copy, Severity::warning, {at, kHeaderBytes},
                        "vhdx: one of the two headers is lost or damaged",
                        "the other one is used when it is valid");
      continue;
    }
    VhdxHeader header;
    header.sequence = le64(copy.bytes, header::kSequenceAt);
    header.data_id = guid_text(copy.bytes, header::kDataIdAt);
    std::copy_n(copy.bytes.begin() + header::kLogIdAt, header.log_id.size(), header.log_id.begin());
    header.log = {le64(copy.bytes, header::kLogOffsetAt), le32(copy.bytes, header::kLogBytesAt)};
    if (!best || header.sequence > best->sequence) best = header;
  }
  if (!best && context != nullptr)
    context->report(FindingCode::container_header, Severity::damage, {kHeadersAt[0], kHeaderBytes},
                    "vhdx: both headers are lost",
                    "the disk is read without its log: what was written last may be missing");
  return best;
}

VhdxRegions read_vhdx_regions(const ByteSource& file, const Context& context) {
  std::optional<Bytes> best;
  bool right = false;
  for (const std::uint64_t at : kRegionsAt) {
    Copy copy = read_copy(file, at, kRegionBytes, regions::kMark);
    if (!copy.right)
      context.report(FindingCode::container_table_copy, Severity::warning, {at, kRegionBytes},
                     "vhdx: one of the two region tables is lost or damaged",
                     "the other one is used when it is valid");
    if (copy.here && (!best || (copy.right && !right))) {
      best = std::move(copy.bytes);
      right = copy.right;
    }
  }
  VhdxRegions regions;
  if (!best) return regions;
  const std::size_t count =
      std::min<std::size_t>(le32(*best, regions::kCountAt), regions::kMaxCount);
  for (std::size_t i = 0, at = regions::kFirst; i < count; ++i, at += regions::kEntryBytes) {
    const std::string id = guid_text(*best, at);
    const Range range{le64(*best, at + regions::kOffsetAt), le32(*best, at + regions::kLengthAt)};
    if (range.offset >= file.size()) continue;
    if (id == regions::kTableId) regions.table = range;
    if (id == regions::kMetadataId) regions.metadata = range;
  }
  return regions;
}

VhdxMetadata read_vhdx_metadata(const ByteSource& file, Range region, const Context& context) {
  const auto fail = [&](std::uint64_t offset, const std::string& what) {
    throw Error(ErrorCode::cannot_read, context.address, offset, "vhdx: " + what,
                "look at the file with ::bytes");
  };
  Bytes table(metadata::kTableBytes);
  if (file.read(region.offset, table).length < table.size() || !has_text(table, 0, metadata::kMark))
    fail(region.offset, "the metadata is lost");
  VhdxMetadata metadata;
  const std::size_t count =
      std::min<std::size_t>(le16(table, metadata::kCountAt), regions::kMaxCount);
  for (std::size_t i = 0, at = metadata::kFirst; i < count; ++i, at += metadata::kEntryBytes) {
    const std::string id = guid_text(table, at);
    const std::uint64_t offset = region.offset + le32(table, at + metadata::kOffsetAt);
    Bytes item(std::min<std::uint64_t>(le32(table, at + metadata::kLengthAt), kMaxItem));
    item.resize(file.read(offset, item).length);
    if (id == metadata::kFileParameters && item.size() >= 8) {
      metadata.block_bytes = le32(item, 0);
      metadata.fixed = (le32(item, 4) & 1) != 0;
      metadata.has_parent = (le32(item, 4) & 2) != 0;
    } else if (id == metadata::kDiskSize && item.size() >= 8) {
      metadata.disk_bytes = le64(item, 0);
    } else if (id == metadata::kLogicalSector && item.size() >= 4) {
      metadata.sector_bytes = le32(item, 0);
    } else if (id == metadata::kDiskId && item.size() >= 16) {
      metadata.id = guid_text(item, 0);
    } else if (id == metadata::kParentLocator) {
      read_parent(item, metadata);
    }
  }
  if (metadata.sector_bytes != 512 && metadata.sector_bytes != 4096) {
    context.report(FindingCode::container_header, Severity::damage, region,
                   fmt::format("vhdx: invalid sector size: {} bytes", metadata.sector_bytes),
                   "512 is used");
    metadata.sector_bytes = 512;
  }
  constexpr std::uint64_t kMinBlock = 1u << 20;
  constexpr std::uint64_t kMaxBlock = 256u << 20;
  if (!is_power_of_two(metadata.block_bytes) || metadata.block_bytes < kMinBlock ||
      metadata.block_bytes > kMaxBlock)
    fail(region.offset, fmt::format("invalid block size: {} bytes", metadata.block_bytes));
  if (metadata.disk_bytes == 0 || metadata.disk_bytes > kMaxDisk)
    fail(region.offset, fmt::format("invalid disk size: {} bytes", metadata.disk_bytes));
  return metadata;
}

}  // namespace lantern
