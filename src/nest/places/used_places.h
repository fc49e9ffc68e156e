// What the files of a volume say of the blocks of its disk: data where they lie, and zeros in
// clusters where none does, as far as the blocks that have their place are like that.
#pragma once

#include <cstdint>
#include <map>
#include <vector>

#include "base/bytes.h"
#include "container/expectations.h"
#include "lantern/container.h"

namespace lantern {

// Thread-safety: belongs to one thread.
class UsedPlaces {
 public:
  explicit UsedPlaces(const LoosePieces& loose) : loose_(loose) {}

  // `sector` of a loose piece.
  void look(ByteView sector);
  // Forgets what files said.
  void clear();
  // A file has `length` bytes at `place` of the disk, in clusters of a volume.
  void add(std::uint64_t place, std::uint64_t length, std::uint64_t cluster,
           const Expectations& expected);
  // `known`: the disk as far as its blocks have places.
  void expect(const SourcePtr& known, Expectations& expected, const Context& context) const;

 private:
  // Clusters in a row that files lie in, or that none does: a sector from the middle of them.
  struct Stretch {
    std::uint64_t sector = 0;  // byte of the disk
    bool used = false;
  };
  std::vector<Stretch> stretches(std::uint64_t block, const std::vector<Range>& used) const;

  const LoosePieces& loose_;
  std::map<std::uint64_t, std::vector<Range>> used_;  // by block: whole clusters
  std::size_t placed_ = 0;                            // of these, blocks that have their place
  std::uint64_t data_sectors_ = 0;                    // of all loose pieces
};

}  // namespace lantern
