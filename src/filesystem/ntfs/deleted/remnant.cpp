#include "filesystem/ntfs/deleted/remnant.h"

namespace lantern::ntfs {

std::pair<std::size_t, bool> Remnants::place_of(Reference file) {
  const auto [found, is_new] = places_.try_emplace(Traces::key_of(file), remnants_.size());
  if (is_new) remnants_.push_back({file, false, false, {}});
  return {found->second, is_new};
}

File Remnants::file(const Volume& volume, std::size_t place, const Traces& traces) const {
  const Remnant& remnant = remnants_[place];
  File file = volume.file_of_extensions(remnant.records);
  file.number = remnant.file.record;
  file.sequence = remnant.file.sequence;
  file.in_use = remnant.in_use;
  file.folder = remnant.folder;
  file.links = 1;
  file.parts_lost = file.remnant = true;
  const Trace* const trace = traces.find(remnant.file);
  if (trace == nullptr) return file;
  file.created = time_since_1601(trace->created);
  file.modified = time_since_1601(trace->modified);
  if (file.find(kData) == nullptr) file.recorded_size = trace->size_bytes;
  if (!file.names.empty()) return file;
  FileName& name = file.names.emplace_back();
  name.folder = trace->folder;
  name.text = trace->name;
  return file;
}

}  // namespace lantern::ntfs
