#include "repair/borrowed_volumes.h"

#include <algorithm>

#include "lantern/sources.h"

namespace lantern::repair {

Target with_volumes_of(const Target& disk, const Target& other, const Context& context) {
  disk.disk();  // is there
  const DiskLayer& own = disk.disk();
  const DiskLayer& like = other.disk();
  const bool has_volume =
      std::any_of(own.volumes.begin(), own.volumes.end(),
                  [](const VolumeLayer& v) { return v.file_system() != nullptr; });
  if (disk.volume || has_volume || own.table.is_there() || !like.table.is_there()) return disk;
  const auto with = std::make_shared<DiskLayer>();
  with->address = own.address;
  with->inputs = own.inputs;
  with->bytes = own.bytes;
  with->file = own.file;
  with->container = own.container;
  with->table = like.table;
  for (const VolumeRow& row : like.table.rows) {
    with->volumes.push_back(std::make_shared<VolumeLayer>(
        own.address.with({Step::Kind::at, row.range.offset, {}, {}}), row,
        make_window(own.bytes, row.range), own.inputs, FileSystemOptions(), context));
  }
  Target target = disk;
  target.disks.back() = with;
  return target;
}

bool is_of_this_disk(std::string_view field) {
  const std::string_view name =
      field.substr(field.rfind('.') == std::string_view::npos ? 0 : field.rfind('.') + 1);
  for (const std::string_view own :
       {"start",      "sectors",      "start_chs",    "end_chs",     "hidden_sectors", "sectors_16",
        "own_sector", "other_sector", "first_usable", "last_usable", "entries_sector", "first",
        "last",       "blocks",       "blocks_high",  "inodes",      "serial",         "disk_id",
        "id",         "label",        "name"})
    if (name == own) return true;
  return false;
}

}  // namespace lantern::repair
