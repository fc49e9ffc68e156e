// QCOW2, versions 2 and 3: the header, its extensions and the list of snapshots. Big-endian.
//   0x00 4 "QFI\xFB"  0x04 4 version  0x08 8, 0x10 4 parent's name: offset, bytes  0x14 4 cluster
//   bits 0x18 8 disk bytes  0x20 4 encryption  0x24 4 entries of level 1  0x28 8 level 1 0x30 8
//   reference counts: table, 0x38 4 its clusters  0x3C 4 snapshots, 0x40 8 their place version 3:
//   0x48 8 features needed: bit 0 dirty, 1 corrupt, 2 data file, 3 packing, 4 extended
//     level 2   0x60 4 reference bits  0x64 4 header bytes  0x68 1 packing: 0 deflate, 1 zstd
//   extensions behind the header: type (4), bytes (4), data padded to 8
//   snapshot: 0x00 8 level 1  0x08 4 its entries  0x0C 2, 0x0E 2 bytes of id and name
//     0x10 4 time  0x14 4 ns  0x24 4 extra bytes; extra: 0x08 8 disk bytes; then id, name; padded
//     to 8
// Source: the format's own public specification (docs/interop of the hypervisor).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/container.h"
#include "lantern/context.h"

namespace lantern {

struct Qcow2Snapshot {
  DiskVersion version;
  std::uint64_t level1_offset = 0;
  std::uint64_t level1_entries = 0;
  Range place;  // of its own entry in the file
};

struct Qcow2Header {
  std::uint32_t version = 0;
  std::uint32_t cluster_bits = 0;
  std::uint64_t disk_bytes = 0;
  std::uint64_t level1_offset = 0;
  std::uint64_t level1_entries = 0;
  std::uint64_t features = 0;
  std::uint32_t encryption = 0;
  std::uint8_t packing = 0;
  std::uint64_t header_bytes = 0;
  std::string parent_name;
  std::string parent_format;
  std::string data_file;
  std::uint64_t counts_offset = 0;    // of the table of reference counts
  std::uint64_t counts_clusters = 0;  // that it has
  std::uint32_t count_bits = 16;      // of one reference count
  std::uint32_t snapshot_count = 0;
  Range bitmaps;  // the list of them; empty when there is none
  std::uint32_t bitmap_count = 0;
  std::uint64_t snapshots_offset = 0;

  bool dirty() const { return (features & 1) != 0; }
  bool corrupt() const { return (features & 2) != 0; }
  bool has_data_file() const { return (features & 4) != 0; }
  bool extended() const { return (features & 16) != 0; }
  std::uint64_t cluster_bytes() const { return std::uint64_t{1} << cluster_bits; }
};

// Empty when `file` does not begin like one. Throws Error{cannot_read, unsupported}.
std::optional<Qcow2Header> read_qcow2_header(const ByteSource& file, const Context& context);

std::vector<Qcow2Snapshot> read_qcow2_snapshots(const ByteSource& file, const Qcow2Header& header,
                                                const Context& context);

// The names of the parent in the text a header keeps: a file name, or "json:" with a tree of nodes.
std::vector<std::string> qcow_parent_names(const std::string& text);

}  // namespace lantern
