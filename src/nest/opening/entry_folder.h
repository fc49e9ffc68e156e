// A folder of a file system, for what lies beside a file: parents, extents, pieces, machines. Its
// active files come first; deleted ones stand in where the name has no other.
//
// Thread-safety: any thread.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "lantern/file_system.h"
#include "lantern/nest/layer.h"
#include "lantern/sources.h"

namespace lantern {

class EntryFolder final : public Neighbours {
 public:
  // `folder`: empty: the root. `deleted`: names() and folders() have deleted entries too.
  static std::shared_ptr<const EntryFolder> open(VolumePtr volume, std::optional<Entry> folder,
                                                 bool deleted);
  // The folder that `entry` lies in.
  static std::shared_ptr<const EntryFolder> beside(const VolumePtr& volume, const Entry& entry,
                                                   bool deleted);

  EntryFolder(VolumePtr volume, std::optional<Entry> folder, bool deleted)
      : volume_(std::move(volume)), folder_(std::move(folder)), deleted_(deleted) {}

  std::optional<SourcePtr> open(std::string_view raw_name) const override;
  std::vector<std::string> names() const override;
  std::vector<std::string> folders() const override;
  std::string place(std::string_view raw_name) const override;
  std::shared_ptr<const Neighbours> folder_of(std::string_view raw_name) const override;

  // The file or folder of that name or path: the active one, else the deleted one of which most is
  // left. A deleted FAT name that lost its first letter answers to any.
  std::optional<Entry> find(std::string_view raw_name) const;
  // Whether a name of names() is that of more than one entry.
  bool repeats() const;
  const std::optional<Entry>& folder() const { return folder_; }
  const VolumePtr& volume() const { return volume_; }
  std::shared_ptr<const EntryFolder> parent() const;  // empty: this is the root

 private:
  const std::vector<Entry>& entries(bool deleted) const;
  std::vector<std::string> of_kind(EntryKind kind) const;
  std::optional<Entry> find_here(std::string_view name) const;

  VolumePtr volume_;
  std::optional<Entry> folder_;
  bool deleted_;
  mutable std::mutex mutex_;
  mutable std::optional<std::vector<Entry>> active_, all_;
};

}  // namespace lantern
