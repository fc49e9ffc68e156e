#include "lantern/nest/session.h"

#include <fmt/format.h>

#include <filesystem>
#include <mutex>
#include <unordered_map>

#include "catalog/catalog.h"
#include "host/lock_files.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "nest/opening/catalog_disk.h"
#include "nest/opening/descent.h"
#include "nest/opening/disk.h"
#include "nest/opening/folder_disks.h"
#include "nest/opening/other_sources.h"
#include "nest/opening/sets.h"
#include "nest/opening/steps/array_by_hand.h"
#include "nest/opening/surroundings.h"
#include "source/reading/known_losses.h"

namespace lantern {
namespace {

const std::string kNamed = "disk:";  // begins a FIRST that is a disk by its lasting name

// Layers by their address, for as long as somebody holds them.
template <typename Kind>
class Opened {
 public:
  // Two that open one layer at the same time get the one that was first.
  template <typename Open>
  std::shared_ptr<const Kind> get(const std::string& address, const Open& open) {
    if (auto known = find(address)) return known;
    std::shared_ptr<const Kind> opened = open();
    const std::lock_guard lock(mutex_);
    std::weak_ptr<const Kind>& slot = by_address_[address];
    if (auto known = slot.lock()) return known;
    slot = opened;
    return opened;
  }

 private:
  std::shared_ptr<const Kind> find(const std::string& address) {
    const std::lock_guard lock(mutex_);
    const auto found = by_address_.find(address);
    return found == by_address_.end() ? nullptr : found->second.lock();
  }

  std::mutex mutex_;
  std::unordered_map<std::string, std::weak_ptr<const Kind>> by_address_;
};

}  // namespace

struct Session::State {
  State(OpenOptions own_options, Context own_context)
      : options(std::move(own_options)), context(std::move(own_context)) {}

  OpenOptions options;
  Context context;
  Opened<DiskLayer> disks;
  Opened<VolumeLayer> volumes;  // that no table names
  Opened<SpannedSets> sets;     // by what they are named under
};

Session::Session(OpenOptions options, Context context)
    : state_(std::make_shared<State>(std::move(options), std::move(context))) {}

const OpenOptions& Session::options() const {
  return state_->options;
}

const Context& Session::context() const {
  return state_->context;
}

Session Session::with(Context context) const {
  return Session(options(), std::move(context));
}

Target Session::open(const Address& address) const {
  return follow_address(address, *this, AddressEnd::as_named);
}

Target Session::open_disk(const Address& address) const {
  return follow_address(address, *this, AddressEnd::disk);
}

Target Session::open_volume(const Address& address) const {
  return follow_address(address, *this, AddressEnd::volume);
}

std::shared_ptr<const Neighbours> Session::open_folder(const Address& address) const {
  return folder_at(address, *this);
}

DiskPtr Session::open_first(const Address& address) const {
  const auto disk = named_disk(address.first);
  Address first;
  first.first = disk ? kNamed + disk->name : address.first;
  return state_->disks.get(first.print(), [&] {
    if (!disk && Catalog::is_catalog(first.first)) return open_catalog_disk(first.first, *this);
    if (!disk)
      if (const auto stated = read_array_file(first.first, context())) {
        const auto members = open_members(*stated, first.first, *this);
        const auto array = array_by_hand(*stated, members, first, *this);
        return open_disk_layer(array->bytes, first, {}, {array}, *this);
      }
    const auto layer = std::make_shared<FileLayer>();
    layer->address = first;
    layer->path = disk ? disk->facts.device : first.first;
    layer->findings->forward_to(context().findings);
    Context own = context().at(first.first);
    own.findings = layer->findings;
    if (disk) {
      layer->bytes = options().host->open_disk(disk->facts, own);
      // A disk is no image: looking for what is left of one would cost it reads.
      Surroundings no_container;
      no_container.as = "raw";
      return open_disk_layer(layer->bytes, first, no_container, {layer}, *this);
    }
    const SourcePtr file = open_file_source(first.first, own);
    if (options().host)
      for (const Holder& holder : options().host->holders(first.first))
        if (holder.writing)
          own.report(FindingCode::source_held, Severity::warning, {},
                     fmt::format("held open for writing by {} (process {})",
                                 for_terminal(holder.name), holder.process),
                     "it is read as it is now; what is read may not fit together");
    const std::filesystem::path path(first.first);
    const auto neighbours = host_neighbours(path.parent_path().string(), own);
    const std::string name = path.filename().string();
    // Of this computer, or of another that shares the folder.
    if (options().host)
      for (const std::string& lock : lock_files(*neighbours, name, true, own))
        own.report(FindingCode::source_held, Severity::warning, {},
                   "may be held by a machine: " + lock,
                   "it is read as it is now; what is read may not fit together");
    layer->bytes =
        with_known_losses(whole_or_first_piece(name, file, *neighbours, own), first.first, own);
    return open_disk_layer(layer->bytes, first, surroundings(name, neighbours, *this), {layer},
                           *this);
  });
}

std::optional<NamedDisk> Session::named_disk(const std::string& first) const {
  std::error_code error;
  if (!first.starts_with(kNamed) || std::filesystem::exists(first, error)) return std::nullopt;
  if (!options().host)
    throw Error(ErrorCode::unsupported, first, std::nullopt,
                "no computer was given to ask for its disks", "name the block device");
  return find_disk(*options().host, std::string_view(first).substr(kNamed.size()), context());
}

DiskPtr Session::open_bytes(const SourcePtr& bytes, const Address& address,
                            const Surroundings& around, std::vector<LayerPtr> from) const {
  return state_->disks.get(address.print(), [&] {
    return open_disk_layer(bytes, address, around, std::move(from), *this);
  });
}

VolumePtr Session::open_range(const DiskLayer& disk, VolumeRow row, const Address& address) const {
  return state_->volumes.get(address.print(), [&] {
    const SourcePtr bytes = make_window(disk.bytes, row.range);
    return std::make_shared<const VolumeLayer>(
        address, std::move(row),
        FileSystemSources(bytes, other_sources(disk.bytes, disk.table.rows, *this)), disk.inputs,
        options().file_system, context());
  });
}

VolumePtr Session::open_as(const Layer& layer, VolumeRow row, const Address& address,
                           FileSystemOptions options) const {
  return state_->volumes.get(address.print(), [&] {
    const auto inputs = dynamic_cast<const DiskLayer*>(&layer) != nullptr
                            ? layer.inputs
                            : std::vector<LayerPtr>{layer.shared_from_this()};
    return std::make_shared<const VolumeLayer>(address, std::move(row), layer.bytes, inputs,
                                               std::move(options), context());
  });
}

VolumePtr Session::open_version(const VolumeLayer& volume, const std::string& id) const {
  const Address address = volume.address.with({Step::Kind::version, 0, id, {}});
  return state_->volumes.get(address.print(), [&]() -> VolumePtr {
    if (const SourcePtr then = volume.open_version(id))
      return std::make_shared<const VolumeLayer>(address, volume.row, then,
                                                 std::vector<LayerPtr>{volume.shared_from_this()},
                                                 options().file_system, context());
    if (auto files = volume.file_system() ? volume.file_system()->open_version(id) : nullptr) {
      auto then =
          std::make_shared<VolumeLayer>(address, volume.row, volume.bytes, std::move(files));
      then->inputs = {volume.shared_from_this()};
      return then;
    }
    throw Error(ErrorCode::not_found, volume.address.print(), std::nullopt,
                fmt::format("there is no version \"{}\"{}", id,
                            versions_there_are(volume.address, volume.versions())),
                {Do::survey, " shows what is there"});
  });
}

VolumePtr Session::open_array(const ArrayStatement& stated, const std::vector<LayerPtr>& members,
                              const Address& address) const {
  return state_->volumes.get(address.print(),
                             [&] { return array_by_hand(stated, members, address, *this); });
}

std::shared_ptr<const SpannedSets> Session::spanned_sets(const Address& base,
                                                         const std::vector<DiskPtr>& disks) const {
  return state_->sets.get(base.print(), [&] { return find_sets(base, disks, *this); });
}

std::shared_ptr<const SpannedSets> Session::spanned_sets(const std::vector<DiskPtr>& disks) const {
  return find_sets(std::nullopt, disks, *this);
}

std::shared_ptr<const SpannedSets> Session::spanned_sets(const Address& folder) const {
  return state_->sets.get(folder.print(), [&] {
    std::vector<DiskPtr> disks;
    for (const Address& address : disks_of(folder, context())) {
      try {
        disks.push_back(open_disk(address).disks.back());
      } catch (const Error& error) {
        if (error.code() == ErrorCode::stopped) throw;
      }
    }
    return find_sets(folder, disks, *this);
  });
}

std::vector<Address> disks_of(const Address& address, const Context& context) {
  const auto folder =
      address.steps.empty() ? first_folder(address, context.at(address.first)) : nullptr;
  if (!folder) return {address};
  std::vector<Address> disks;
  for (const std::string& name : disks_in(folder, context))
    disks.push_back(address.with({Step::Kind::member, 0, name, {}}));
  return disks;
}

}  // namespace lantern
