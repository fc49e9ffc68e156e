// The tree a mount shows: nodes by number, made when they are asked for, and forgotten when the
// kernel forgets them. Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <deque>
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "lantern/nest/session.h"
#include "serve/live_disk.h"
#include "serve/mount_listing.h"
#include "serve/shown_files.h"

namespace lantern {

struct MountNode {
  enum class Kind {
    fixed,  // a folder of ours
    entry,  // of a file system
    raw,    // bytes of a disk or volume
    findings
  };
  std::uint64_t number = 0;
  std::uint64_t parent = 0;
  std::uint64_t lookups = 0;  // that the kernel has not taken back
  bool kept = true;           // for as long as the mount; else until the kernel forgets it
  Kind kind = Kind::fixed;
  std::string name;
  ShownFilesPtr files;  // that the entry is of
  Entry entry;
  const LiveDisk::Raw* raw = nullptr;
  std::map<std::string, std::uint64_t> by_name;  // of a folder of ours
  std::function<void(std::uint64_t)> fill;       // of one whose nodes are not made yet: makes them

  bool folder() const {
    return kind == Kind::fixed || (kind == Kind::entry && entry.kind == EntryKind::folder);
  }
};

using MountListingPtr = std::shared_ptr<const MountListing>;

// What is shown beside volumes/, and found/ of a catalog.
struct MountParts {
  bool deleted = true, earlier = true, disks = true, findings = true;
};

class MountTree {
 public:
  static constexpr std::uint64_t kRoot = 1;
  static constexpr std::size_t kMaxFiles = 16384;  // nodes of files before the kernel is asked
  static constexpr std::size_t kMaxHeld = 16384;   // entries of folders that are held
  static constexpr std::size_t kMaxNames = 65536;  // of folders that are held, or one folder's

  MountTree(const Target& target, const LiveDisk& live, const Session& session,
            const MountParts& parts = {});

  // Number of the node; throws std::out_of_range for one there is none of.
  const MountNode& node(std::uint64_t number) const { return *nodes_.at(number); }
  // What lies in a folder. Stays as it is for as long as somebody holds it.
  MountListingPtr listing(std::uint64_t number);
  // Empty: there is none. The kernel knows it from then on.
  const MountNode* look_up(std::uint64_t parent, const std::string& name);
  // The kernel takes so many lookups of it back.
  void forget(std::uint64_t number, std::uint64_t lookups);
  // Of more files than are to be held, the one that was asked for first: the kernel is to be asked
  // to forget it. Empty: there are not.
  struct Known {
    std::uint64_t parent = 0;
    std::string name;
  };
  std::optional<Known> one_too_many();

  // Not of a raw.
  SourcePtr content(const MountNode& node);
  std::uint64_t size_bytes(const MountNode& node);

 private:
  MountNode& add(std::uint64_t parent, MountNode node);
  MountNode& number_node(MountNode node);
  MountNode& add_fixed(std::uint64_t parent, std::string name);
  void add_root(std::uint64_t parent, std::string name, ShownFilesPtr files);
  void add_volumes(const Target& target, const LiveDisk& live);
  void add_earlier(const Target& target);
  void fill(std::uint64_t number);
  std::string findings_text();

  // Entries of a folder, from one of its listing on.
  struct Held {
    std::uint64_t number = 0;
    std::size_t first = 0;
    std::vector<Entry> entries;
  };
  MountListingPtr list_entries(const MountNode& folder);
  void hold(Held held);
  Entry entry_at(const MountNode& folder, std::size_t index);

  Target target_;
  MountParts parts_;
  Session session_;  // asks nobody who holds a file: an answer may wait for one who waits for ours
  std::unordered_map<std::uint64_t, std::unique_ptr<MountNode>> nodes_;
  std::uint64_t last_number_ = 0;
  std::unordered_map<std::string, std::uint64_t>
      known_;                        // "PARENT/NAME" of those that are not kept
  std::deque<std::uint64_t> files_;  // in the order they were asked for
  std::size_t held_files_ = 0;
  struct Listed {
    std::uint64_t number = 0;
    MountListingPtr listing;
  };
  std::list<Listed> listed_;  // used last first
  std::size_t listed_names_ = 0;
  std::list<Held> held_;  // used last first
  std::size_t held_entries_ = 0;
  std::optional<std::string> files_in_doubt_;  // once they were asked for
};

}  // namespace lantern
