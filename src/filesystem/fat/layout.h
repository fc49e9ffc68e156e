// Layout: which clusters belong to whom, as far as the disk still tells. Learned once, by a index
// of the whole tree (cluster_index.h), and only read afterwards: any thread may then ask it.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "filesystem/fat/deleted/tangled.h"
#include "filesystem/fat/disk.h"
#include "filesystem/fat/slots.h"

namespace lantern::fat {

enum class Certainty : std::uint8_t { sure, doubtful, lost };

// A run of a file's clusters in file order; `first` is 0 when there is no place to read.
struct Part {
  std::uint32_t first = 0;
  std::uint32_t count = 0;
  Certainty certainty = Certainty::sure;
};

// How the clusters of a file without a whole chain were placed.
struct Placed {
  enum class Rule : std::uint8_t {
    kept_chain,   // the table still holds its chain
    one_run,      // in one run from its first cluster
    next_free,    // into the next free clusters, passing over clusters in use and folder starts
    first_taken,  // in one run; its first cluster, at least, has another owner now
    no_start,     // no first cluster is known
    not_examined  // the budget of the index ran out
  };
  std::uint64_t slot_offset = 0;
  std::size_t first_part = 0;  // in Layout::parts
  std::uint32_t part_count = 0;
  Rule rule = Rule::one_run;
  bool start_worked_out = false;  // the high half of its first cluster was wiped
  bool unproven = false;      // nothing claims its clusters, yet traces of lost entries are near
  bool broken_chain = false;  // an active file
};

std::string evidence_text(const Placed& placed);

class Bitmap {
 public:
  explicit Bitmap(std::size_t bits) : bits_(bits) {}
  bool get(std::uint32_t i) const { return bits_[i]; }
  // Returns what it was.
  bool set(std::uint32_t i) {
    const bool was = bits_[i];
    bits_[i] = true;
    return was;
  }

 private:
  std::vector<bool> bits_;
};

struct Layout {
  explicit Layout(const Geometry& geometry)
      : owned(std::size_t{geometry.cluster_count} + 2),
        crossed(std::size_t{geometry.cluster_count} + 2),
        folder_parts(std::size_t{geometry.cluster_count} + 2) {}

  Bitmap owned;         // by an active file or folder
  Bitmap crossed;       // by more than one
  Bitmap folder_parts;  // later clusters of folders, known by their shape
  bool any_crossed = false;
  bool known_unreadable = false;  // the source says some of the volume is lost
  std::unordered_map<std::uint32_t, std::vector<ClusterRun>> folders;  // without a whole chain
  std::unordered_map<std::uint64_t, std::uint32_t> deleted_folders;    // slot offset: first cluster
  std::vector<Placed> placed;                                          // by slot offset
  std::vector<Part> parts;
  std::vector<ClusterRun> disputed;  // claimed by two placed files; sorted, disjoint
  std::vector<Tangled> tangled;      // groups of deleted files that lie among each other
  std::unordered_map<std::uint64_t, std::size_t> tangled_in;  // slot offset: which of them

  const Placed* find(std::uint64_t slot_offset) const;
  bool is_disputed(std::uint32_t cluster) const;
};

// The parts of a file's content, cut to its size, with everything known of each: table, disputes,
// lost and discarded places of the source. Lengths are bytes.
struct BytePart {
  Range range;  // of the file
  std::uint64_t volume_offset = 0;
  Certainty certainty = Certainty::sure;
  bool readable = true;    // false: there is no place to read
  bool discarded = false;  // of a deleted file: nothing is stored here
};
std::vector<BytePart> content_parts(const Disk& disk, const Layout& layout, const Slot& slot,
                                    std::uint64_t slot_offset, bool deleted);

// 1 only when every byte is sure.
double intact_share(const std::vector<BytePart>& parts, std::uint64_t size_bytes);

}  // namespace lantern::fat
