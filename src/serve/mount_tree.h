// The tree a mount shows: nodes by number, made when they are asked for, and forgotten when the
// kernel forgets them. Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <deque>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "lantern/nest/session.h"
#include "lantern/timestamp.h"
#include "serve/live_disk.h"

namespace lantern {

struct MountNode {
  enum class Kind {
    fixed,    // a folder of ours
    active,   // an entry of a volume
    deleted,  // a deleted one, or a folder that holds some
    raw,      // bytes of a disk or volume
    findings
  };
  std::uint64_t number = 0;
  std::uint64_t parent = 0;
  std::uint64_t lookups = 0;  // that the kernel has not taken back
  bool kept = true;           // for as long as the mount; else until the kernel forgets it
  Kind kind = Kind::fixed;
  std::string name;
  std::size_t volume = 0;  // of the disk
  Entry entry;             // of active and deleted
  const LiveDisk::Raw* raw = nullptr;
  std::map<std::string, std::uint64_t> by_name;  // of a folder that is kept
  bool loaded = true;                            // those are known

  bool folder() const {
    return kind == Kind::fixed ||
           ((kind == Kind::active || kind == Kind::deleted) && entry.kind == EntryKind::folder);
  }
};

// What lies in a folder, by the names it is shown under.
struct MountListing {
  struct Child {
    std::string name;
    std::uint64_t number = 0;  // of a node that is kept; 0: an entry of a volume
    Entry entry;
  };
  std::vector<Child> children;
  std::unordered_map<std::string, std::size_t> by_name;
};
using MountListingPtr = std::shared_ptr<const MountListing>;

class MountTree {
 public:
  static constexpr std::uint64_t kRoot = 1;
  static constexpr std::size_t kMaxFiles = 16384;  // nodes of files before the kernel is asked
  static constexpr std::size_t kMaxHeld = 32768;   // entries of folders that are held

  MountTree(const Target& target, const LiveDisk& live, const Context& context);

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
  // Of the disk, and ours on a file that is not intact.
  std::vector<Attribute> attributes(const MountNode& node) const;
  std::uint64_t size_bytes(const MountNode& node);

 private:
  MountNode& add(std::uint64_t parent, MountNode node);
  MountNode& number_node(MountNode node);
  void load(std::uint64_t number);
  MountListingPtr list_active(const MountNode& node);
  MountNode& add_fixed(std::uint64_t parent, std::string name);
  void add_root(std::uint64_t parent, std::size_t volume, std::string name, MountNode::Kind kind);
  std::string findings_text();
  void load_deleted(MountNode& node);
  std::uint64_t deleted_folder(std::uint64_t at, const std::vector<std::string>& path,
                               std::size_t above, std::size_t volume);
  const FileSystem& files_of(const MountNode& node) const;

  Target target_;
  Context context_;
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
  std::size_t listed_entries_ = 0;
  std::optional<std::string> files_in_doubt_;  // once they were asked for
};

}  // namespace lantern
