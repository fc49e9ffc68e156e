#include "lantern/container.h"

#include "base/bytes.h"
#include "lantern/format/registry.h"
#include "source/given.h"

namespace lantern {
namespace {

// Boot code, or the mark at the end of a boot record.
bool begins_like_a_disk(const ByteSource& file) {
  Bytes sector(512);
  if (file.read(0, sector).length < sector.size()) return true;
  return le16(sector, 510) == 0xAA55;
}

}  // namespace

Container open_container(const SourcePtr& file, const Surroundings& around,
                         const Context& context) {
  given(file);
  const std::vector<Format>& formats = known_formats().formats();
  for (const Format& format : formats)
    if (format.open_container)
      if (auto container = format.open_container(file, around, context))
        return std::move(*container);
  // A known volume or table at the start is no container without its header.
  if (!begins_like_a_disk(*file) && !(around.is_volume && around.is_volume(file)))
    for (const Format& format : formats)
      if (format.open_headless)
        if (auto container = format.open_headless(file, around, context))
          return std::move(*container);
  Container raw;
  raw.flat = file;
  raw.stored_bytes = file->size();
  return raw;
}

}  // namespace lantern
