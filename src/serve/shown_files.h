// A file system that a mount shows, as a part of what is in it: what is active, what was deleted,
// what a catalog lists, an earlier state. Opened when it is asked for.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

class ShownFiles {
 public:
  // The target's volume, as it is; deleted entries too where `all`: a catalog lists both alike.
  ShownFiles(Target target, bool all, const Context& context)
      : target_(std::move(target)), all_(all), by_path_(all), context_(context) {}
  // What was deleted from the target's volume, or from the folder of it that the target names.
  static std::shared_ptr<ShownFiles> deleted(Target target, const Context& context);
  // The target's volume as it was.
  static std::shared_ptr<ShownFiles> earlier(Target target, const std::string& version,
                                             const Session& session);

  // These throw Error where it cannot be opened.
  // What is right in the folder.
  void walk(const Entry& folder, const EntryVisitor& visit);
  SourcePtr content(const Entry& entry);

  // Those of the disk, then ours: of a file that is not known to be whole; the others have them
  // when they are asked by name.
  std::vector<std::string> attribute_names(const Entry& entry);
  // Empty: it has none of this name.
  std::optional<std::string> attribute(const Entry& entry, const std::string& name);

 private:
  const FileSystem& files();
  std::vector<Attribute> own_attributes(const Entry& entry);
  std::string places(const Entry& entry);
  std::string verified(const Entry& entry);

  Target target_;  // its volume
  bool all_ = false;
  bool by_path_ = false;  // folders of one path are one
  Context context_;
  std::function<void()> open_;  // what is left to do before the first question
  std::shared_ptr<const FileSystem> files_;
};
using ShownFilesPtr = std::shared_ptr<ShownFiles>;

// Nothing is known against it: it is active and no byte of it is known to be lost.
bool is_well(const Entry& entry);
// "0.63": never 1 for less than all; "unknown".
std::string share_text(const Entry& entry);

}  // namespace lantern
