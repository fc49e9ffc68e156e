// Arrays and volume groups: volumes that lie on several disks, put together from what their members
// record.
//
//   for (const SpannedSets::Set& one : session.spanned_sets(address, {disk})->sets)
//     for (const SpannedVolume& volume : one.set.volumes) ...
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/finding.h"

namespace lantern {

enum class MemberState {
  active,      // it is used
  rebuilding,  // it is used as far as it was rebuilt
  spare,
  journal,
  failed,   // the others record that it failed
  stale,    // it left the set earlier: the others went on without it
  twice,    // another source has its place
  missing,  // it is not among the sources
  unknown   // what it records cannot be read
};
std::string_view to_string(MemberState state);

struct SpanMember {
  std::string address;                // empty: it is missing
  std::string id;                     // its own, as the set records it; may be empty
  std::optional<std::uint32_t> slot;  // its place in the set
  MemberState state{};
  bool newest = false;  // it was written last, and it is recorded so
  std::string detail;   // in words; may be empty
};

enum class SetState {
  complete,    // every member is there
  degraded,    // members are missing; all content can be had
  incomplete,  // some content cannot be had
  unusable     // nothing can be opened
};
std::string_view to_string(SetState state);

// An array, or a volume of a group.
struct SpannedVolume {
  std::string name;  // "0", "mail"; raw bytes
  std::string uuid;  // may be empty
  std::string type;  // in words: "RAID 5, left-symmetric, chunks of 64 KiB", "linear"
  SourcePtr bytes;   // empty: it cannot be opened; why_not says why
  std::string why_not;
  SetState state{};
  bool hidden = false;            // a part of another volume, or the system's own
  bool is_pool = false;           // thin pool: its bytes are those of its data
  std::vector<std::size_t> from;  // of the set's members: those it lies on
  std::vector<SourcePtr> copies;  // of a mirror: its content on each of `from`
  std::vector<std::string> tags;  // of a volume group's volume
  std::vector<Finding> findings;  // in what only this volume needs; without an address
};

// An earlier description of a group, which it keeps.
struct SetVersion {
  std::string id;                    // "12": its number
  std::uint64_t written = 0;         // seconds since 1970; 0: not recorded
  std::string what;                  // the command that ended it, in words; may be empty
  std::vector<std::string> removed;  // volumes in it that the newest has no more
};

struct SpannedSet {
  std::string format;  // "md", "lvm"
  std::string name;    // "0", "vg"
  std::string uuid;
  std::string detail;  // in words
  SetState state{};
  std::vector<SpanMember> members;     // by slot
  std::vector<SpannedVolume> volumes;  // of an array one
  std::vector<SetVersion> versions;    // older descriptions, the newest first
  std::vector<Finding> findings;       // in its members' metadata; without an address
  // The set as one of them describes it; empty: there are none. Throws Error{not_found}.
  std::function<SpannedSet(const std::string& id)> open_version;
};

}  // namespace lantern
