#include "lantern/nest/layer.h"

#include <algorithm>
#include <unordered_set>

#include "base/bytes.h"
#include "lantern/format/registry.h"
#include "nest/owner.h"
#include "volume/luks/unlock.h"
#include "volume/shadow_copies.h"

namespace lantern {
namespace {

VolumeStart start_of(const ByteSource& volume) {
  constexpr std::size_t kLook = std::size_t{66} * 1024;
  Bytes start(kLook);
  const ReadResult got = volume.read(0, start);
  if (!all_zero(start)) return VolumeStart::data;
  return got.unreadable.empty() ? VolumeStart::zeros : VolumeStart::unreadable;
}

}  // namespace

VolumeLayer::VolumeLayer(Address called, VolumeRow entry, FileSystemSources sources,
                         std::vector<LayerPtr> from, FileSystemOptions options,
                         const Context& context)
    : row(std::move(entry)),
      options_(std::move(options)),
      sources_(std::move(sources)),
      context_(context) {
  address = std::move(called);
  bytes = sources_.volume;
  inputs = std::move(from);
  context_.address = address.print();
  findings->forward_to(context.findings);
  context_.findings = findings;
}

VolumeLayer::VolumeLayer(Address called, VolumeRow entry, SourcePtr volume,
                         std::shared_ptr<const FileSystem> files)
    : row(std::move(entry)), opened_(true), versions_known_(true), file_system_(std::move(files)) {
  address = std::move(called);
  bytes = std::move(volume);
}

std::string VolumeLayer::format() const {
  if (file_system()) return file_system_->facts().type;
  return owner_ ? owner_->format : std::string();
}

const SourcePtr& VolumeLayer::content() const {
  const std::lock_guard lock(mutex_);
  if (content_ || !bytes) return content_;
  content_ = bytes;
  if (!options_.keys || !options_.as.empty()) return content_;
  const auto closed = known_formats().recognise(*bytes);
  const auto* const owner = owner_of(closed, nullptr);
  if (owner == nullptr || !owner->format.starts_with("luks")) return content_;
  luks::Unlocked opened = luks::unlock(bytes, *bytes, address.print(), *options_.keys, context_);
  locked_ = opened.why_not;
  if (opened.content) content_ = std::move(opened.content);
  return content_;
}

std::string VolumeLayer::why_locked() const {
  const std::lock_guard lock(mutex_);
  content();
  return locked_;
}

const std::vector<Recognition>& VolumeLayer::recognised() const {
  const std::lock_guard lock(mutex_);
  if (!probed_ && bytes) recognised_ = known_formats().recognise(*content());
  probed_ = true;
  return recognised_;
}

const std::shared_ptr<const FileSystem>& VolumeLayer::file_system() const {
  open();
  return file_system_;
}

const std::optional<Recognition>& VolumeLayer::owner() const {
  open();
  return owner_;
}

std::vector<std::string> VolumeLayer::alternatives() const {
  std::vector<std::string> others;
  if (!options_.as.empty()) return others;
  for (const Recognition& one : recognised()) {
    const Format* const format = known_formats().find(one.format);
    const bool taken = file_system() && file_system()->facts().format == one.format;
    if (format != nullptr && format->open != nullptr && one.verified && !taken &&
        std::find(others.begin(), others.end(), one.format) == others.end())
      others.push_back(one.format);
  }
  return others;
}

VolumeStart VolumeLayer::start() const {
  open();
  return start_;
}

const std::vector<DiskVersion>& VolumeLayer::versions() const {
  look_for_versions();
  return versions_;
}

SourcePtr VolumeLayer::open_version(std::string_view id) const {
  look_for_versions();
  return open_version_ ? open_version_(id) : nullptr;
}

bool VolumeLayer::is_opened() const {
  const std::lock_guard lock(mutex_);
  return opened_;
}

void VolumeLayer::open() const {
  const std::lock_guard lock(mutex_);
  if (opened_) return;
  if (!bytes) {
    opened_ = true;
    return;
  }
  // What a reader makes of another's remains is not to be told.
  Context reading = context_;
  reading.findings = std::make_shared<FindingSink>();
  if (content() != bytes) sources_ = FileSystemSources(content_);
  auto files = open_file_system(sources_, recognised(), options_, reading);
  owner_.reset();
  if (!options_.as.empty()) {
    // By hand: only what says the same counts.
    for (const Recognition& one : recognised_)
      if (one.format == options_.as && !owner_) owner_ = one;
  } else if (const auto* owner = owner_of(recognised_, files.get())) {
    owner_ = *owner;
    if (files && is_remains(*files, *owner, bytes->size())) files = nullptr;
  }
  // What it finds later, too: its reader keeps the sink.
  if (files || !owner_) reading.findings->forward_to(findings);
  if (!files && !owner_) start_ = start_of(*bytes);
  file_system_ = std::move(files);
  opened_ = true;
}

void VolumeLayer::look_for_versions() const {
  const std::lock_guard lock(mutex_);
  if (versions_known_) return;
  const bool is_version =
      !address.steps.empty() && address.steps.back().kind == Step::Kind::version;
  if (bytes && !is_version) {
    ShadowCopies copies = find_shadow_copies(content(), context_);
    versions_ = std::move(copies.versions);
    open_version_ = std::move(copies.open_version);
    if (versions_.empty() && file_system()) versions_ = file_system_->versions();
  }
  versions_known_ = true;
}

std::string content_of(const VolumeLayer& volume) {
  if (volume.file_system()) return volume.file_system()->facts().type;
  if (volume.owner()) return volume.owner()->title;
  if (volume.start() == VolumeStart::zeros) return "nothing but zeros at its start";
  return volume.start() == VolumeStart::unreadable ? "its start cannot be read" : "";
}

bool may_hold_files(const VolumeLayer& volume) {
  if (volume.file_system() || !volume.bytes) return false;
  if (volume.owner()) return volume.owner()->kind != FormatKind::swap;
  return volume.start() != VolumeStart::zeros && !volume.row.system;
}

void walk_layers(const LayerPtr& from, const std::function<bool(const Layer&)>& visit) {
  std::vector<const Layer*> waiting = {from.get()};
  std::unordered_set<const Layer*> seen;
  for (std::size_t i = 0; i < waiting.size(); ++i) {
    if (waiting[i] == nullptr || !seen.insert(waiting[i]).second) continue;
    if (!visit(*waiting[i])) return;
    for (const LayerPtr& input : waiting[i]->inputs) waiting.push_back(input.get());
  }
}

}  // namespace lantern
