#include "nest/opening/disk.h"

#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "nest/opening/other_sources.h"
#include "nest/owner.h"
#include "source/given.h"

namespace lantern {
namespace {

// Whether something known begins in a volume that a table names.
bool holds_something(const VolumeRow& row, const SourcePtr& disk, const FileSystemOptions& options,
                     const Context& context) {
  if (row.range.offset == 0 || row.range.offset >= disk->size()) return false;
  const SourcePtr volume = make_window(disk, row.range);
  return is_recognised(*volume) || open_file_system(volume, options, context);
}

// What begins in sector 0 and fills the disk beats a table nobody's volumes stand by: the first
// sector of such a disk may look like one, and older tables stay behind.
bool whole_disk_is_a_volume(const DiskLayer& disk, const FileSystemOptions& options,
                            const Context& context) {
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  const SourcePtr& flat = disk.container.flat;
  // Of a member whose metadata stand at its end, the table is the array's.
  const bool begins = disk.owner && disk.owner->verified && !disk.owner->from_copy &&
                      disk.owner->place < flat->size() / 2;
  const bool by_gpt = disk.table.scheme == "gpt";
  if (!begins && (by_gpt || !open_file_system(flat, options, quiet))) return false;
  return std::none_of(disk.table.rows.begin(), disk.table.rows.end(), [&](const VolumeRow& row) {
    return holds_something(row, flat, options, quiet);
  });
}

// A disc that was made to start as a disk, too: its file system fills it beside the table.
bool stands_beside_table(const DiskLayer& disk) {
  if (!disk.owner || !disk.owner->verified || disk.owner->from_copy) return false;
  const Format* const format = known_formats().find(disk.owner->format);
  return format != nullptr && format->beside_table;
}

// The files of this computer that a disk lies in: the first, or the member of a folder; its
// extents; its parents.
std::vector<LayerPtr> files_of(const ContainerLayer& disk, bool with_first) {
  std::vector<LayerPtr> files;
  std::error_code error;
  const auto add = [&](const std::string& path, const SourcePtr& bytes) {
    if (!std::filesystem::exists(path, error)) return;
    auto file = std::make_shared<FileLayer>();
    file->address.first = file->path = path;
    file->bytes = bytes;
    files.push_back(std::move(file));
  };
  const Address& own = disk.address;
  const bool in_folder = !own.steps.empty() && std::filesystem::is_directory(own.first, error);
  if (with_first) add(in_folder ? own.first + "/" + own.steps.front().text : own.first, disk.file);
  for (const std::string& file : disk.container.files) add(file, nullptr);
  for (const ChainLink& link : disk.container.chain) add(link.place, nullptr);
  return files;
}

std::shared_ptr<ContainerLayer> open_container_layer(const SourcePtr& file, const Address& address,
                                                     const Surroundings& around,
                                                     std::vector<LayerPtr> from,
                                                     const Context& context) {
  const auto layer = std::make_shared<ContainerLayer>();
  layer->findings->forward_to(context.findings);
  Context own = context.at(address.print());
  own.findings = layer->findings;
  if (given(file)->size() == 0)
    throw Error(ErrorCode::cannot_open, own.address, std::nullopt,
                "is empty: there is nothing to read", "check that the copy was complete");
  layer->address = address;
  layer->file = file;
  layer->container = open_container(file, around, own);
  layer->bytes = layer->container.flat;
  if (!address.steps.empty() && address.steps.back().kind == Step::Kind::version && !from.empty()) {
    layer->container.format = from.front()->format();
    layer->container.variant = "as it was in version " + address.steps.back().text;
  }
  layer->inputs = std::move(from);
  for (LayerPtr& below : files_of(*layer, layer->inputs.empty()))
    layer->inputs.push_back(std::move(below));
  return layer;
}

}  // namespace

DiskPtr open_disk_layer(const SourcePtr& file, const Address& address, const Surroundings& around,
                        std::vector<LayerPtr> from, const Session& session) {
  const OpenOptions& options = session.options();
  const Context& context = session.context();
  const auto below = open_container_layer(file, address, around, std::move(from), context);
  const auto disk = std::make_shared<DiskLayer>();
  disk->findings->forward_to(context.findings);
  Context own = context.at(address.print());
  own.findings = disk->findings;
  disk->address = address;
  disk->inputs = {below};
  disk->file = below->file;
  disk->container = below->container;
  disk->bytes = below->bytes;

  disk->recognised = known_formats().recognise(*disk->bytes);
  if (const auto* owner = owner_of(disk->recognised, nullptr)) disk->owner = *owner;
  Context table_findings = own;
  table_findings.findings = std::make_shared<FindingSink>();
  disk->table =
      read_volume_table(disk->bytes, options.sector_size, known_formats(), table_findings);
  if (whole_disk_is_a_volume(*disk, options.file_system, own))
    disk->table = VolumeTable{};
  else
    table_findings.findings->forward_to(disk->findings);

  const auto others = other_sources(disk->bytes, disk->table.rows, session);
  const auto add_volume = [&](VolumeRow row, Step step) {
    own.check_cancelled();
    const SourcePtr bytes = make_window(disk->bytes, row.range);
    disk->volumes.push_back(std::make_shared<VolumeLayer>(
        address.with(std::move(step)), std::move(row), FileSystemSources(bytes, others),
        std::vector<LayerPtr>{below}, options.file_system, context));
  };
  std::vector<VolumeRow> rows = disk->table.rows;
  VolumeRow whole;
  whole.range = {0, disk->bytes->size()};
  if (!disk->table.is_there()) {
    whole.number = 1;
    rows.push_back(whole);
  }
  const bool at_start = std::any_of(rows.begin(), rows.end(),
                                    [](const VolumeRow& row) { return row.range.offset == 0; });
  if (!at_start && stands_beside_table(*disk))
    add_volume(std::move(whole), {Step::Kind::at, 0, {}, {}});
  for (VolumeRow& row : rows) {
    const std::uint64_t number = row.number;
    add_volume(std::move(row), volume_step(number));
  }
  return disk;
}

}  // namespace lantern
