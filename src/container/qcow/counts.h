// The reference counts of a QCOW2, as one change to the disk makes them (layout:
// container/write/qcow2_writer.cpp).
//
// Thread-safety: one thread.
#pragma once

#include <map>
#include <vector>

#include "base/store.h"
#include "container/qcow/header.h"
#include "container/qcow/layout.h"
#include "source/writable_source.h"

namespace lantern::qcow {

inline Bytes be_entry(std::uint64_t value) {
  Bytes bytes(kEntryBytes);
  store_be64(bytes, 0, value);
  return bytes;
}

class Counts {
 public:
  // `header` outlives it.
  Counts(const SourcePtr& file, const Qcow2Header& header);

  // So many clusters behind the end of the file and each other, each counted once. Throws
  // Error{unsupported, cannot_write}.
  std::uint64_t take(std::uint64_t clusters = 1);
  // Counts that share a byte would sink before the cluster is free: those are left as they are.
  void give_back(std::uint64_t at);

  // Counts that grow, before anything is laid into the clusters; new blocks before what leads to
  // them.
  void write_grown(std::vector<LayerWrite>& writes) const;
  // Those that shrink, when nothing leads to the clusters any more.
  void write_shrunk(std::vector<LayerWrite>& writes) const;

 private:
  struct Block {
    std::uint64_t at = 0;
    Bytes bytes;
    bool fresh = false;
  };
  struct Change {
    std::uint64_t block = 0;
    std::uint64_t within = 0;
    bool up = false;
  };

  void change(std::uint64_t cluster_at, int by);
  Block& block_of(std::uint64_t index);
  std::uint64_t get(ByteView bytes, std::uint64_t within) const;
  void set(Bytes& bytes, std::uint64_t within, std::uint64_t value) const;
  std::map<std::uint64_t, Bytes> changed(bool up) const;

  SourcePtr file_;
  const Qcow2Header& header_;
  std::uint64_t per_block_;
  std::uint64_t end_;
  std::map<std::uint64_t, Block> blocks_;
  std::vector<Change> changes_;
};

}  // namespace lantern::qcow
