// ArrayTrial: whether file systems and their files open in an array as its geometry is stated.
//
//   const VolumePtr array = session.open_array(parse_array_step("0"), {disk}, address);
//   for (const ArrayTrial& each : try_array(array, session)) ...
//
// Thread-safety: may be called from any thread.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

struct ArrayTrial {
  std::string address;      // of the volume in it
  std::string file_system;  // "ext4"; empty: none opens
  std::string content;      // what else it is, in words; empty: not known
  std::string label;
  std::uint64_t files = 0, folders = 0;  // active ones, up to a bound
  bool counted_all = true;
  // Files whose content was looked at, of kinds that can be checked: those that hold together, and
  // those that do not. Files with a part on a missing member are not looked at.
  std::uint64_t whole = 0, broken = 0;
  std::string first_broken;  // path, and why
};

// Each volume of the array, or the array as one, and those of groups on it; a look of seconds.
std::vector<ArrayTrial> try_array(const VolumePtr& array, const Session& session);

}  // namespace lantern
