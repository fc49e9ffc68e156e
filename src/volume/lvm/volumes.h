// The volumes of a group as byte sources, each from its segments.
//
// Thread-safety: one thread makes them; the sources may be read from any.
#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/volume/spanning.h"
#include "volume/lvm/group.h"

namespace lantern::lvm {

// What became of a volume.
struct Opened {
  SourcePtr bytes;  // empty: why_not says why
  std::string why_not;
  std::string type;  // in words
  SetState state = SetState::complete;
  std::set<std::size_t> from;     // physical volumes of the group, by their place in it
  std::vector<SourcePtr> copies;  // of a mirror: its content on each of its halves
  std::vector<Finding> findings;
};

class Volumes {
 public:
  // `physical`: the sources of the group's physical volumes, in its order; empty: missing.
  Volumes(const Group& group, std::vector<SourcePtr> physical, const Context& context);

  // Of a name there is not, and of one that is made of itself, says so.
  const Opened& open(const std::string& name);

 private:
  Opened build(const Volume& volume);
  struct Part;  // a segment's or an area's bytes
  Part segment(const Segment& segment);
  Part areas_end_to_end(const Segment& segment, std::string_view key);
  Part raid(const Segment& segment);
  Part thin(const Segment& segment);
  Part below(const std::string& name);
  Part area(const std::string& name, std::uint64_t first_extent, std::uint64_t extents);
  std::set<std::size_t> stale_images(const Segment& segment, std::vector<std::string>& metas,
                                     Part& part);

  const Group& group_;
  std::vector<SourcePtr> physical_;
  const Context& context_;
  std::map<std::string, Opened> opened_;
  std::set<std::string> under_way_;
};

}  // namespace lantern::lvm
