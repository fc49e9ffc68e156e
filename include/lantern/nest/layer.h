// Layer: a node of the graph an address leads through: what it is called, what it is made from, the
// bytes it offers, and what was found wrong with it. Volumes are opened when they are asked.
//
//   const DiskPtr opened = session.open_first(Address::parse("station.vdi"));
//   for (const VolumeLayer& each : opened->volumes)
//     if (each.file_system()) ...
//
// Thread-safety: a layer that a session has handed out may be used from any thread. It keeps the
// options, services and sources of its session.
#pragma once

#include <cstdint>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/address.h"
#include "lantern/byte_source.h"
#include "lantern/container.h"
#include "lantern/context.h"
#include "lantern/file_system.h"
#include "lantern/format/recognition.h"
#include "lantern/volume_table.h"

namespace lantern {

class Layer;
using LayerPtr = std::shared_ptr<const Layer>;

class Layer : public std::enable_shared_from_this<Layer> {
 public:
  Layer() : findings(std::make_shared<FindingSink>()) {}
  Layer(const Layer&) = delete;
  Layer& operator=(const Layer&) = delete;
  virtual ~Layer() = default;

  // "vdi", "ext4", "lvm"; empty: not known.
  virtual std::string format() const = 0;

  Address address;
  SourcePtr bytes;               // what it offers to the layers above
  std::vector<LayerPtr> inputs;  // what those bytes come from: files, a disk, a volume; several of
                                 // an array, a chain of parents, a file in extents
  std::shared_ptr<FindingSink> findings;  // its own, and no other layer's
};

// A file or device of this computer: where the graph ends.
class FileLayer final : public Layer {
 public:
  std::string format() const override { return "file"; }

  std::string path;  // where it is on this computer now; of a disk by a lasting name its device
};

// A file as the flat disk it stands for.
class ContainerLayer final : public Layer {
 public:
  std::string format() const override { return container.format; }

  SourcePtr file;  // the raw container file; `bytes` is the disk
  Container container;
};

// What stands at the start of a volume that is not recognised.
enum class VolumeStart { data, zeros, unreadable };

class VolumeLayer final : public Layer {
 public:
  VolumeLayer() = default;
  // What lies in the volume is looked at when it is asked for.
  VolumeLayer(Address called, VolumeRow entry, FileSystemSources sources,
              std::vector<LayerPtr> from, FileSystemOptions options, const Context& context);
  // With the file system that was opened in it; may be empty.
  VolumeLayer(Address called, VolumeRow entry, SourcePtr volume,
              std::shared_ptr<const FileSystem> files);

  std::string format() const override;

  VolumeRow row;  // of the table; a disk without one has one row, number 1

  // The members below read the volume when they are asked first, and throw Error{stopped} when that
  // is cancelled; they can be asked again then.

  // What lies in it: its bytes; of an encrypted volume whose key is given, decrypted. Where no key
  // opens it, its bytes as they are.
  const SourcePtr& content() const;
  // Of an encrypted volume that no key opened: why not, in words.
  std::string why_locked() const;
  // What the first structures of its content say it is, read here or not, the best first. Reads a
  // few sectors.
  const std::vector<Recognition>& recognised() const;
  // Empty pointer: none that can be read.
  const std::shared_ptr<const FileSystem>& file_system() const;
  // The recognition that counts; empty: nothing is known of it.
  const std::optional<Recognition>& owner() const;
  // Other file systems that left structures of their own here and are read: names in the registry.
  std::vector<std::string> alternatives() const;
  // Of a volume without a file system and an owner.
  VolumeStart start() const;
  // Earlier states it keeps, the oldest first.
  const std::vector<DiskVersion>& versions() const;
  // It as it was in one of them, by id or name; empty pointer: there is none such, or the file
  // system has to be asked for it.
  SourcePtr open_version(std::string_view id) const;
  std::string required_key() const { return owner() ? owner()->required_key : std::string(); }

  // Whether its file system was looked for already.
  bool is_opened() const;

 private:
  void open() const;
  void look_for_versions() const;

  FileSystemOptions options_;
  mutable FileSystemSources sources_ = SourcePtr();
  Context context_;
  mutable std::recursive_mutex mutex_;  // of what follows
  mutable SourcePtr content_;
  mutable std::string locked_;
  mutable bool probed_ = false, opened_ = false, versions_known_ = false;
  mutable std::vector<Recognition> recognised_;
  mutable std::optional<Recognition> owner_;
  mutable std::shared_ptr<const FileSystem> file_system_;
  mutable VolumeStart start_{};
  mutable std::vector<DiskVersion> versions_;
  mutable std::function<SourcePtr(std::string_view)> open_version_;
};
using VolumePtr = std::shared_ptr<const VolumeLayer>;

// The volumes of a disk, in the order of its table. Goes over them as layers.
class VolumeList {
 public:
  class Iterator {
   public:
    using iterator_category = std::forward_iterator_tag;
    using value_type = VolumeLayer;
    using difference_type = std::ptrdiff_t;
    using pointer = const VolumeLayer*;
    using reference = const VolumeLayer&;
    explicit Iterator(const VolumePtr* at = nullptr) : at_(at) {}
    reference operator*() const { return **at_; }
    pointer operator->() const { return at_->get(); }
    Iterator& operator++() {
      ++at_;
      return *this;
    }
    Iterator operator++(int) { return Iterator(at_++); }
    friend bool operator==(const Iterator&, const Iterator&) = default;

   private:
    const VolumePtr* at_;
  };
  Iterator begin() const { return Iterator(all_.data()); }
  Iterator end() const { return Iterator(all_.data() + all_.size()); }
  std::size_t size() const { return all_.size(); }
  bool empty() const { return all_.empty(); }
  const VolumeLayer& operator[](std::size_t index) const { return *all_[index]; }
  const VolumeLayer& front() const { return *all_.front(); }
  const VolumePtr& share(std::size_t index) const { return all_[index]; }
  const std::vector<VolumePtr>& all() const { return all_; }
  void push_back(VolumePtr volume) { all_.push_back(std::move(volume)); }
  void clear() { all_.clear(); }

 private:
  std::vector<VolumePtr> all_;
};

// A disk with its volumes. They hold the layer below it, not this one.
class DiskLayer final : public Layer {
 public:
  std::string format() const override { return table.scheme; }

  SourcePtr file;  // the raw container file; `bytes` is the disk
  Container container;
  VolumeTable table;
  VolumeList volumes;
  bool of_catalog = false;              // its volumes are those of a catalog
  std::vector<Recognition> recognised;  // what the disk itself is by its own first structures
  std::optional<Recognition> owner;     // as of a volume
};
using DiskPtr = std::shared_ptr<const DiskLayer>;

// What is in a volume, in words: "ext4", "LVM physical volume", "nothing but zeros at its start".
std::string content_of(const VolumeLayer& volume);
// Whether files may be in it that cannot be read here: it is not empty, no swap, no volume that a
// system keeps for itself, and no file system was opened.
bool may_hold_files(const VolumeLayer& volume);

// A layer and all it is made from, each once, nearest first. Return false to stop.
void walk_layers(const LayerPtr& from, const std::function<bool(const Layer&)>& visit);

}  // namespace lantern
