// VDI (layout: container/vdi/layout.h): the header rebuilt from the shape of the block map.
#include <fmt/format.h>

#include "base/store.h"
#include "container/vdi/layout.h"
#include "container/vdi/vdi.h"
#include "lantern/error.h"
#include "nest/places/evidence.h"
#include "repair/containers/containers.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kHeaderBytes = 512;

// A disk larger than its blocks is opened by nobody; the blocks are there.
void sizes(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis) {
  const Bytes header = read_bytes(*file, 0, vdi::kIdAt);
  if (header.size() < vdi::kIdAt) return;
  const std::uint64_t disk_bytes = le64(header, vdi::kDiskBytesAt);
  const std::uint64_t mapped =
      std::uint64_t{le32(header, vdi::kBlockBytesAt)} * le32(header, vdi::kBlockCountAt);
  if (mapped == 0 || disk_bytes <= mapped) return;
  Bytes right(8);
  store_le64(right, 0, mapped);
  propose_bytes(diagnosis, "vdi.size", Certainty::likely,
                fmt::format("the size of the disk becomes {} bytes", mapped),
                fmt::format("the header says {}, and has {} blocks of {} bytes", disk_bytes,
                            le32(header, vdi::kBlockCountAt), le32(header, vdi::kBlockBytesAt)),
                place, *file, vdi::kDiskBytesAt, right);
}

// A header as the block map asks for it, without ids.
Bytes header_by(const VdiShape& shape, std::uint64_t disk_bytes) {
  Bytes header(kHeaderBytes);
  store_text(header, 0, "<<< virtual disk >>>\n");
  store_le32(header, vdi::kSignatureAt, vdi::kSignature);
  store_le32(header, vdi::kVersionAt, vdi::kVersion);
  store_le32(header, vdi::kHeaderLengthAt, vdi::kHeaderLength);
  store_le32(header, vdi::kKindAt, vdi::kDynamic);
  store_le32(header, vdi::kMapOffsetAt, shape.map_offset);
  store_le32(header, vdi::kDataOffsetAt, shape.data_offset);
  store_le32(header, vdi::kSectorBytesAt, 512);
  store_le64(header, vdi::kDiskBytesAt, disk_bytes);
  store_le32(header, vdi::kBlockBytesAt, shape.block_bytes);
  store_le32(header, vdi::kBlockCountAt, shape.block_count);
  store_le32(header, vdi::kBlocksStoredAt, shape.blocks_stored);
  return header;
}

// The mark is there, and figures behind it are wrong. False: they are not, or nothing is known.
bool damaged_header(const SourcePtr& file, const std::string& place, ByteView stored,
                    Diagnosis& diagnosis, const Context& context) {
  constexpr std::size_t kParentBytes = 32;
  const std::uint32_t kind = le32(stored, vdi::kKindAt);
  const bool plain = kind == 1 || kind == 2;
  const std::uint64_t blocks = le32(stored, vdi::kBlocksStoredAt);
  const std::uint64_t before_last =
      blocks == 0 ? 0 : (blocks - 1) * le32(stored, vdi::kBlockBytesAt);
  const bool sound = le32(stored, vdi::kSectorBytesAt) == 512 &&
                     le32(stored, vdi::kDataOffsetAt) + before_last <= file->size() &&
                     (!plain || all_zero(slice(stored, vdi::kParentIdAt, kParentBytes)));
  try {
    if (sound && open_vdi(file, {}, context)) return false;
  } catch (const Error& error) {
    if (error.code() != ErrorCode::cannot_read && error.code() != ErrorCode::unsupported) throw;
  }
  const auto shape = headless_vdi(file);
  if (!shape) return false;
  const std::uint64_t mapped = std::uint64_t{shape->block_count} * shape->block_bytes;
  const Bytes made = header_by(*shape, mapped);
  const std::uint64_t size = le64(stored, vdi::kDiskBytesAt);
  return propose_figures(
      diagnosis, "vdi.header",
      fmt::format("as it is, it cannot be read or is refused; the block map at byte {} has {} "
                  "blocks of {} bytes, each stored one once",
                  shape->map_offset, shape->block_count, shape->block_bytes),
      place, *file, stored, made,
      {{vdi::kVersionAt, 4, "version", false},
       {vdi::kHeaderLengthAt, 4, "length of the header",
        le32(stored, vdi::kHeaderLengthAt) >= 0x180 && le32(stored, vdi::kHeaderLengthAt) <= 0x200},
       {vdi::kKindAt, 4, "kind", plain},
       {vdi::kMapOffsetAt, 4, "place of the block map", false},
       {vdi::kDataOffsetAt, 4, "place of the data", false},
       {vdi::kSectorBytesAt, 4, "size of a sector", false},
       {vdi::kDiskBytesAt, 8, "size of the disk",
        size != 0 && size <= mapped && size > mapped - shape->block_bytes},
       {vdi::kBlockBytesAt, 4, "size of a block", false},
       {vdi::kExtraBytesAt, 4, "bytes before a block", false},
       {vdi::kBlockCountAt, 4, "blocks", false},
       {vdi::kBlocksStoredAt, 4, "blocks stored", false},
       {vdi::kParentIdAt, kParentBytes, "id of a parent it has not", false}});
}

}  // namespace

void diagnose_vdi(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                  const Context& context) {
  const Bytes stored = read_bytes(*file, 0, kHeaderBytes);
  if (stored.size() < kHeaderBytes) return;
  if (le32(stored, vdi::kSignatureAt) == vdi::kSignature) {
    if (!damaged_header(file, place, stored, diagnosis, context)) sizes(file, place, diagnosis);
    return;
  }
  if (has_boot_mark(stored)) return;  // a disk as it is, or a volume
  const auto shape = headless_vdi(file);
  if (!shape) return;
  Surroundings around;
  add_evidence(around);
  const auto opened = open_headless_vdi(file, around, context);
  if (!opened) return;
  Bytes header = header_by(*shape, opened->flat->size());
  for (std::size_t i = vdi::kIdAt; i < vdi::kParentIdAt; ++i)
    header[i] = static_cast<std::byte>(i * 37);
  header.resize(std::min<std::size_t>(kHeaderBytes, shape->map_offset));
  propose_bytes(diagnosis, "vdi.header", Certainty::likely, "the header, rebuilt",
                fmt::format("it is lost; the block map at byte {} has {} blocks of {} bytes, each "
                            "stored one once; its id is not known",
                            shape->map_offset, shape->block_count, shape->block_bytes),
                place, *file, 0, header);
}

}  // namespace lantern::repair
