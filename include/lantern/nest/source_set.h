// SourceSet: the sources of one job, each once, and the members of arrays and groups among them.
//
//   SourceSet set;
//   set.add(address);
//   for (const SetMember& member : set.members_of("a2b1...")) ...
//
// Thread-safety: one thread.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/nest/layer.h"

namespace lantern {

// A disk or volume that says which array or group it belongs to.
struct SetMember {
  Address address;
  Recognition recognised;  // set_id is not empty
};

class SourceSet {
 public:
  // The address by which the same file, device or layer is there already; empty: it was added. The
  // file counts, not its name: a symbolic or hard link to it is the same source.
  std::optional<Address> add(const Address& address);
  // In the order in which they were added; adding one renumbers no other.
  const std::vector<Address>& addresses() const { return addresses_; }

  // Notes what a disk and its volumes are members of. Asks its volumes what they are.
  void note_members(const DiskLayer& disk);
  // By slot, those without one last. Two that claim one slot are both there: alternatives.
  std::vector<SetMember> members_of(std::string_view set_id) const;
  // Sorted.
  std::vector<std::string> set_ids() const;

 private:
  std::vector<Address> addresses_;
  std::map<std::string, std::size_t> known_;  // by what tells the file from others
  std::map<std::string, std::vector<SetMember>, std::less<>> members_;
};

}  // namespace lantern
