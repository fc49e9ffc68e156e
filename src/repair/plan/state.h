// What is accessible on a disk, as something that can be compared: what a trial gained, and whether
// it lost anything.
//
// Thread-safety: one thread.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>

#include "lantern/nest/session.h"
#include "lantern/repair.h"

namespace lantern::repair {

// Of one volume.
struct VolumeState {
  std::string format;     // of its file system, in the registry
  std::string type;       // and its own; empty: none can be read
  bool verified = false;  // by its own first structure, as other systems read it
  bool complete = true;   // all of its entries were looked at
  std::uint64_t files = 0, folders = 0;
  std::set<std::uint64_t> intact;  // a hash each of path and size
  // What else was found when it was opened and walked.
  std::string owner;                            // that is verified and not read, in words
  std::optional<std::uint64_t> recorded_bytes;  // its size by its own figures; empty: nothing known
  std::set<std::string> findings;               // damage and warnings of its readers
};

struct AccessState {
  std::map<std::uint64_t, VolumeState> volumes;  // by their first byte on the disk
  // What else holds: entries of a table that fit, links of the start chain, volumes of kinds that
  // are not read. In words.
  std::set<std::string> facts;
  std::set<std::string> findings;  // damage and warnings of the readers, a line each

  Reach reach() const;
};

// Measures states; a volume that no write has touched is not walked twice.
class StateMeter {
 public:
  // `writes`: what was written to the disk since it was first measured. A volume none of them
  // touches is not opened again.
  AccessState measure(const Target& target, const std::vector<PlannedWrite>& writes,
                      const Context& context);

 private:
  std::map<std::string, VolumeState> known_;
};

struct StateChange {
  std::uint64_t files = 0;         // intact, that were not
  std::uint64_t volumes = 0;       // readable, that were not
  std::uint64_t verified = 0;      // readable by their own first structure, that were not
  std::set<std::string> facts;     // that did not hold
  std::set<std::string> findings;  // that are gone
  std::string lost;                // what is accessible no more, in words; empty: nothing
  bool gains() const {
    return files + volumes + verified > 0 || !facts.empty() || !findings.empty();
  }
  // Whether all of `other`'s gain is in this.
  bool covers(const StateChange& other) const;
  std::string words() const;
};

StateChange change_between(const AccessState& before, const AccessState& after);

}  // namespace lantern::repair
