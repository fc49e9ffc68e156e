// VDI (layout: container/vdi.h): the header made anew from the shape of the block map.
#include <fmt/format.h>

#include "base/lay.h"
#include "container/vdi.h"
#include "nest/evidence.h"
#include "repair/containers/containers.h"

namespace lantern {
namespace {

constexpr std::uint32_t kSignature = 0xBEDA107F;

// A disk larger than its blocks is opened by nobody; the blocks are there.
void sizes(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis) {
  constexpr std::uint64_t kDiskBytesAt = 0x170;
  const Bytes header = read_bytes(*file, 0, 0x188);
  if (header.size() < 0x188) return;
  const std::uint64_t disk_bytes = le64(header, kDiskBytesAt);
  const std::uint64_t mapped = std::uint64_t{le32(header, 0x178)} * le32(header, 0x180);
  if (mapped == 0 || disk_bytes <= mapped) return;
  Bytes right(8);
  lay_le64(right, 0, mapped);
  propose_bytes(diagnosis, "vdi.size", Certainty::likely,
                fmt::format("the size of the disk becomes {} bytes", mapped),
                fmt::format("the header says {}, and has {} blocks of {} bytes", disk_bytes,
                            le32(header, 0x180), le32(header, 0x178)),
                place, *file, kDiskBytesAt, right);
}

}  // namespace

void diagnose_vdi(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                  const Context& context) {
  constexpr std::size_t kHeaderBytes = 512;
  const Bytes stored = read_bytes(*file, 0, kHeaderBytes);
  if (stored.size() < kHeaderBytes) return;
  if (le32(stored, 0x40) == kSignature) return sizes(file, place, diagnosis);
  if (le16(stored, 510) == 0xAA55) return;  // a disk as it is, or a volume
  const auto shape = headless_vdi(file);
  if (!shape) return;
  Surroundings around;
  add_evidence(around);
  const auto opened = open_headless_vdi(file, around, context);
  if (!opened) return;
  Bytes header(kHeaderBytes);
  lay_text(header, 0, "<<< virtual disk >>>\n");
  lay_le32(header, 0x40, kSignature);
  lay_le32(header, 0x44, 0x00010001);
  lay_le32(header, 0x48, 0x190);
  lay_le32(header, 0x4C, 1);
  lay_le32(header, 0x154, shape->map_offset);
  lay_le32(header, 0x158, shape->data_offset);
  lay_le32(header, 0x168, 512);
  lay_le64(header, 0x170, opened->flat->size());
  lay_le32(header, 0x178, shape->block_bytes);
  lay_le32(header, 0x180, shape->block_count);
  lay_le32(header, 0x184, shape->blocks_stored);
  for (std::size_t i = 0x188; i < 0x1A8; ++i) header[i] = static_cast<std::byte>(i * 37);
  header.resize(std::min<std::size_t>(kHeaderBytes, shape->map_offset));
  propose_bytes(diagnosis, "vdi.header", Certainty::likely, "the header, made anew",
                fmt::format("it is lost; the block map at byte {} has {} blocks of {} bytes, each "
                            "stored one once; its id is not known",
                            shape->map_offset, shape->block_count, shape->block_bytes),
                place, *file, 0, header);
}

}  // namespace lantern
