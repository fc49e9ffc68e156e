#include "nest/opening/catalog_disk.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "catalog/catalog.h"
#include "catalog/entries.h"
#include "catalog/finds.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// What was left by a sweep that was killed is taken back, which takes the right to write.
std::shared_ptr<Catalog> open_to_read(const std::string& path) {
  try {
    return Catalog::open(path, Database::How::write);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::unsupported) throw;
    return Catalog::open(path, Database::How::read);
  }
}

// Where it was, beside the catalog, in the folders that are searched. Empty pointer: nowhere.
DiskPtr find_swept_disk(const std::string& path, const CatalogFacts& facts,
                        const Session& session) {
  namespace fs = std::filesystem;
  const Address was = Address::parse(facts.disk);
  std::vector<std::string> places = {was.first};
  const std::string name = fs::path(was.first).filename().string();
  places.push_back((fs::path(path).parent_path() / name).string());
  for (const std::string& folder : session.options().look_in)
    places.push_back((fs::path(folder) / name).string());
  for (const std::string& place : places) {
    std::error_code error;
    if (!place.starts_with("disk:") && !fs::exists(place, error)) continue;
    Address here = was;
    here.first = place;
    const Target found = session.open_disk(here);
    if (!found.disks.empty() && !found.disks.back()->of_catalog) return found.disks.back();
  }
  return nullptr;
}

void compare_disks(const CatalogFacts& facts, const DiskLayer& disk, const std::string& path,
                   const Context& context) {
  const IdentityMatch match = compare(facts.identity, identify(*disk.bytes));
  if (match == IdentityMatch::other)
    throw Error(ErrorCode::refused, path, std::nullopt,
                fmt::format("is of another disk than {}: it had {} bytes, this one has {}",
                            disk.address.print(), facts.identity.size_bytes, disk.bytes->size()),
                "name the folder of the disk that was swept with --search-dir");
  if (match == IdentityMatch::changed)
    context.report(FindingCode::catalog_disk_changed, Severity::warning, {},
                   fmt::format("{} has changed since it was swept", disk.address.print()),
                   "entries are as they were then, contents as they are now");
}

}  // namespace

DiskPtr open_catalog_disk(const std::string& path, const Session& session) {
  const std::shared_ptr<const Catalog> catalog = open_to_read(path);
  const CatalogFacts facts = catalog->facts();
  const auto disk = std::make_shared<DiskLayer>();
  disk->findings->forward_to(session.context().findings);
  Context own = session.context().at(path);
  own.findings = disk->findings;
  disk->address.first = path;
  disk->of_catalog = true;
  const DiskPtr swept = find_swept_disk(path, facts, session);
  if (swept) {
    compare_disks(facts, *swept, path, own);
    disk->inputs = {swept};
    disk->file = swept->file;
    disk->container = swept->container;
    disk->bytes = swept->bytes;
    disk->table = swept->table;
  } else {
    own.report(FindingCode::catalog_without_disk, Severity::note, {},
               fmt::format("the disk that was swept, {}, is not there", facts.disk),
               "names are listed; for contents name its folder with --search-dir");
    disk->bytes = make_joined({{ExtentKind::unreadable, facts.identity.size_bytes, nullptr, 0}});
    disk->file = disk->bytes;
    disk->container.flat = disk->bytes;
    disk->container.format = "raw";
  }
  if (catalog->fact("state") == "part")
    throw Error(ErrorCode::cannot_read, path, std::nullopt,
                "is of a part of a disk, and lists nothing by itself",
                "merge it with the other parts of the disk first");
  if (!catalog->is_done() && catalog->volumes().empty())
    throw Error(
        ErrorCode::cannot_read, catalog->database().path(), std::nullopt,
        fmt::format("lists nothing yet: its sweep was stopped at byte {}", catalog->swept_to()),
        "run the sweep again: it goes on");
  if (!catalog->is_done())
    own.report(FindingCode::catalog_unfinished, Severity::warning, {},
               fmt::format("the sweep was stopped at byte {}", catalog->swept_to()),
               "what it had found is listed; lantern sweep goes on when it is run again");
  const auto disk_bytes = [swept, was = facts.disk](const std::string& name) {
    if (swept) return swept->bytes;
    throw Error(ErrorCode::cannot_open, name, std::nullopt,
                fmt::format("contents are on the disk that was swept, {}, which is not there", was),
                "name its folder with --search-dir");
  };
  for (const CatalogVolume& volume : catalog->volumes()) {
    VolumeRow row;
    row.number = volume.number;
    row.range = intersect(volume.range, {0, disk->bytes->size()});
    if (swept)
      for (const VolumeRow& known : swept->table.rows)
        if (volume.number != 0 && known.number == volume.number) row = known;
    const Address address =
        disk->address.with(volume.lost != 0 ? Step{Step::Kind::lost, volume.lost, {}, {}}
                                            : volume_step(volume.number));
    const SourcePtr bytes = make_window(disk->bytes, row.range);
    Context there = session.context().at(address.print());
    const auto open = [disk_bytes, bytes, volume, there,
                       options =
                           session.options().file_system]() -> std::shared_ptr<const FileSystem> {
      disk_bytes(there.address);
      FileSystemOptions how = volume.opened_by;
      how.code_page = options.code_page;
      auto files = open_file_system(bytes, how, there);
      if (!files)
        throw Error(ErrorCode::cannot_read, there.address, std::nullopt,
                    "the file system that was found here cannot be opened any more",
                    "sweep the disk again, into another catalog");
      return files;
    };
    disk->volumes.push_back(std::make_shared<VolumeLayer>(
        address, std::move(row), bytes, open_catalog_volume(catalog, volume, open)));
  }
  if (!count_finds(*catalog).empty()) {
    VolumeRow row;
    row.range = {0, disk->bytes->size()};
    const Address address = disk->address.with({Step::Kind::content, 0, {}, {}});
    const auto bytes = [disk_bytes, name = address.print()] { return disk_bytes(name); };
    disk->volumes.push_back(std::make_shared<VolumeLayer>(address, std::move(row), disk->bytes,
                                                          open_finds(catalog, bytes)));
  }
  return disk;
}

}  // namespace lantern
