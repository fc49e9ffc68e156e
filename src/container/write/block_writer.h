// The write side of a container: how a block that has no place of its own in the file gets one.
// Every list of writes is in order, data before what leads to it, so that a power cut after any of
// them leaves a disk that opens and holds the old bytes or the new.
//
// Thread-safety: one thread writes at a time. Tables are read anew at each call where
// the writes change them; what is kept of them a writer says itself.
#pragma once

#include <memory>
#include <vector>

#include "container/mapped_disk.h"
#include "source/writable_source.h"

namespace lantern {

class BlockWriter {
 public:
  BlockWriter() = default;
  BlockWriter(const BlockWriter&) = delete;
  BlockWriter& operator=(const BlockWriter&) = delete;
  virtual ~BlockWriter() = default;

  // What gets a place as one: the block around this byte of the disk. May reach past its end.
  virtual Range unit_at(std::uint64_t disk_offset) const = 0;
  // Puts `content` where `unit` is; shorter than a block where the disk ends. Throws
  // Error{unsupported, cannot_write}.
  virtual std::vector<LayerWrite> place(Range unit, ByteView content) const = 0;
  // Whether stored bytes belong to this state of the disk alone.
  virtual bool may_overwrite(const Run& /*run*/) const { return true; }
  // What the file has to say before anything in it is changed.
  virtual std::vector<LayerWrite> before_first_write() const { return {}; }
};

// Helpers of the writers.

inline std::uint64_t round_up(std::uint64_t value, std::uint64_t step) {
  return (value + step - 1) / step * step;
}

// `content` with zeros behind it.
inline Bytes padded(ByteView content, std::uint64_t length) {
  Bytes bytes(content.begin(), content.end());
  bytes.resize(static_cast<std::size_t>(length));
  return bytes;
}

// Bytes of a table that has to be there. Throws Error{cannot_write}.
Bytes read_exactly(const ByteSource& file, std::uint64_t at, std::size_t length);

// What is divided by is not zero, and no block is larger than any format has. Throws
// Error{cannot_write}.
void need_block(std::uint64_t bytes);

// One for each format; a file that is not whole gets none.
std::shared_ptr<const BlockWriter> make_vdi_writer(const SourcePtr& file);
std::shared_ptr<const BlockWriter> make_vhd_writer(const SourcePtr& file, std::uint64_t header_at);
std::shared_ptr<const BlockWriter> make_vhdx_writer(const SourcePtr& file);
std::shared_ptr<const BlockWriter> make_hard_disk_writer(const SourcePtr& file);
std::shared_ptr<const BlockWriter> make_vmdk_writer(const SourcePtr& file);
// `data`: where clusters lie, `file` itself or one of its own.
std::shared_ptr<const BlockWriter> make_qcow2_writer(const SourcePtr& file, const SourcePtr& data);

// Two levels of tables of offsets, QCOW and QED.
struct TwoLevelShape {
  std::uint64_t level1_offset = 0;
  std::uint64_t table_entries = 0;  // of level 2
  std::uint64_t cluster_bytes = 0;
  bool big_endian = false;
};
std::shared_ptr<const BlockWriter> make_two_level_writer(const SourcePtr& file,
                                                         const TwoLevelShape& shape);

}  // namespace lantern
