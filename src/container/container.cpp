#include "lantern/container.h"

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "source/given.h"

namespace lantern {
namespace {

// Boot code, or the mark at the end of a boot record.
bool begins_like_a_disk(const ByteSource& file) {
  Bytes sector(512);
  if (file.read(0, sector).length < sector.size()) return true;
  return has_boot_mark(sector);
}

Container raw_disk(const SourcePtr& file) {
  Container raw;
  raw.flat = file;
  raw.stored_bytes = file->size();
  return raw;
}

Container open_as(const SourcePtr& file, const Surroundings& around, const Context& context) {
  if (around.as == "raw") return raw_disk(file);
  const Format* const format = known_formats().find(around.as);
  if (format == nullptr || format->open_container == nullptr)
    throw Error(ErrorCode::usage, context.address, std::nullopt,
                "\"" + around.as + "\" is not a container that is read here",
                "raw, vdi, vmdk, qcow, qed, hdd, vhdx and vhd are");
  for (const auto open : {format->open_container, format->open_headless})
    if (auto container = open != nullptr ? open(file, around, context) : std::nullopt)
      return std::move(*container);
  throw Error(ErrorCode::cannot_read, context.address, std::nullopt,
              "cannot be read as " + around.as, "look at the file with ::bytes");
}

}  // namespace

Container open_container(const SourcePtr& file, const Surroundings& around,
                         const Context& context) {
  given(file);
  const std::vector<Format>& formats = known_formats().formats();
  if (!around.as.empty()) return open_as(file, around, context);
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
  return raw_disk(file);
}

}  // namespace lantern
