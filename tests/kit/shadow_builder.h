// A volume that keeps shadow copies of itself as it is written to, by the rules as they are known;
// no system here writes them.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <vector>

#include "kit/bytes.h"

namespace lantern::kit {

class ShadowBuilder {
 public:
  static constexpr std::size_t kBlock = 16384;

  explicit ShadowBuilder(std::size_t blocks) : volume_(blocks * kBlock) {}

  // From here on what is written over is kept. `unneeded`: blocks the copy can do without.
  void keep_copy(std::uint64_t time, const std::set<std::size_t>& unneeded = {});
  void write(std::size_t block, const Bytes& content);
  // Within one block: only the sectors that are written over are kept.
  void write_sectors(std::size_t at, const Bytes& content);
  // As a defragmenter does: what lies in a block goes to another, and is not kept but named.
  void move(std::size_t from, std::size_t to);

  // The volume without its head.
  const Bytes& now() const { return volume_; }
  // With the stores behind it.
  Bytes bytes() const;
  // Byte of the list of blocks of a copy.
  std::uint64_t place_of_list(std::size_t copy) const;

 private:
  struct Line {
    std::size_t block = 0;
    std::uint64_t relative = 0, place = 0;
    std::uint32_t flags = 0, sectors = 0;
  };
  struct Copy {
    std::uint64_t time = 0;
    std::set<std::size_t> unneeded;
    std::vector<Line> lines;
    std::set<std::size_t> whole;                   // blocks of which nothing more is kept
    std::map<std::size_t, std::uint32_t> sectors;  // kept of a block
    std::set<std::size_t> moved_to;
  };

  std::size_t lists_of(const Copy& copy) const;
  Bytes part(std::size_t block) const;
  std::uint64_t put_aside(const Bytes& content);
  // What the newest copy needs of a block before it is written over.
  void keep(std::size_t block);

  Bytes volume_;
  Bytes kept_;
  std::vector<Copy> copies_;
};

}  // namespace lantern::kit
