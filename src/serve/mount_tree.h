// The tree a mount shows: nodes by number, made when they are asked for.
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
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
  Kind kind = Kind::fixed;
  std::string name;
  std::size_t volume = 0;  // of the disk
  Entry entry;             // of active and deleted
  const LiveDisk::Raw* raw = nullptr;
  std::vector<std::uint64_t> children;
  std::map<std::string, std::uint64_t> by_name;
  bool loaded = true;  // children are known

  bool folder() const {
    return kind == Kind::fixed ||
           ((kind == Kind::active || kind == Kind::deleted) && entry.kind == EntryKind::folder);
  }
};

class MountTree {
 public:
  static constexpr std::uint64_t kRoot = 1;

  MountTree(const Target& target, const LiveDisk& live, const Context& context);

  // Number of the node; throws std::out_of_range for one there is none of.
  const MountNode& node(std::uint64_t number) const { return *nodes_.at(number - 1); }
  // Its children, loaded if they were not.
  const std::vector<std::uint64_t>& children(std::uint64_t number);
  const MountNode* child(std::uint64_t parent, const std::string& name);

  // Not of a raw.
  SourcePtr content(const MountNode& node);
  // Of the disk, and ours on a file that is not intact.
  std::vector<Attribute> attributes(const MountNode& node) const;
  std::uint64_t size_bytes(const MountNode& node);

 private:
  MountNode& add(std::uint64_t parent, MountNode node);
  MountNode& add_fixed(std::uint64_t parent, std::string name);
  void add_root(std::uint64_t parent, std::size_t volume, std::string name, MountNode::Kind kind);
  std::string findings_text();
  void load_active(MountNode& node);
  void load_deleted(MountNode& node);
  std::uint64_t deleted_folder(std::uint64_t at, const std::vector<std::string>& path,
                               std::size_t above, std::size_t volume);
  const FileSystem& files_of(const MountNode& node) const;

  Target target_;
  Context context_;
  std::vector<std::unique_ptr<MountNode>> nodes_;  // number - 1
  std::optional<std::string> files_in_doubt_;      // once they were asked for
};

}  // namespace lantern
