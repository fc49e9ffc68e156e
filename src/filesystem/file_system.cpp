#include "lantern/file_system.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <string_view>

#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "source/given.h"

namespace lantern {

std::string_view to_string(EntryKind kind) {
  switch (kind) {
    case EntryKind::file:
      return "file";
    case EntryKind::folder:
      return "folder";
    case EntryKind::symlink:
      return "link";
    case EntryKind::char_device:
      return "character-device";
    case EntryKind::block_device:
      return "block-device";
    case EntryKind::fifo:
      return "pipe";
    case EntryKind::socket:
      return "socket";
  }
  return "file";
}

std::string_view to_string(EntryState state) {
  switch (state) {
    case EntryState::active:
      return "active";
    case EntryState::deleted:
      return "deleted";
    case EntryState::orphan:
      return "orphan";
    case EntryState::found:
      return "found";
  }
  return "active";
}

namespace {

std::shared_ptr<const FileSystem> open_as(const FileSystemSources& sources,
                                          const FileSystemOptions& options,
                                          const Context& context) {
  const Format* const format = known_formats().find(options.as);
  if (format == nullptr || format->open == nullptr)
    throw Error(ErrorCode::usage, context.address, std::nullopt,
                fmt::format("\"{}\" is not a file system that is read here", options.as),
                "fat, exfat, ntfs, ext and iso9660 are");
  for (const auto& [key, value] : options.geometry)
    if (std::find(format->geometry.begin(), format->geometry.end(), key) == format->geometry.end())
      throw Error(ErrorCode::usage, context.address, std::nullopt,
                  fmt::format("{} takes no value \"{}\"", options.as, key),
                  format->geometry.empty()
                      ? "it takes none"
                      : fmt::format("it takes {}", fmt::join(format->geometry, ", ")));
  return format->open(sources, options, context);
}

}  // namespace

std::shared_ptr<const FileSystem> open_file_system(const FileSystemSources& sources,
                                                   const FileSystemOptions& options,
                                                   const Context& context) {
  return open_file_system(sources, known_formats().recognise(*given(sources.volume)), options,
                          context);
}

std::shared_ptr<const FileSystem> open_file_system(const FileSystemSources& sources,
                                                   const std::vector<Recognition>& recognised,
                                                   const FileSystemOptions& options,
                                                   const Context& context) {
  if (!options.as.empty()) return open_as(sources, options, context);
  // What begins the volume and is verified comes before what a copy, or figures alone, still tell:
  // they may be remains of what was there before.
  const auto begins = [&](const Format& format) {
    return std::any_of(recognised.begin(), recognised.end(), [&](const Recognition& one) {
      return one.format == format.name && one.verified && !one.from_copy;
    });
  };
  const auto& formats = known_formats().formats();
  for (const Format& format : formats)
    if (format.open != nullptr && begins(format))
      if (auto files = format.open(sources, options, context)) return files;
  for (const Format& format : formats)
    if (format.open != nullptr)
      if (auto files = format.open(sources, options, context)) return files;
  return nullptr;
}

std::vector<Stream> FileSystem::streams(const Entry& /*entry*/) const {
  return {};
}

std::vector<Attribute> FileSystem::attributes(const Entry& /*entry*/) const {
  return {};
}

std::vector<Claim> FileSystem::who_owns(Range range) const {
  std::vector<Claim> claims;
  walk({}, [&](const Entry& entry) {
    if (entry.kind != EntryKind::file || entry.size_bytes == 0) return WalkStep::go_on;
    if (entry.attributes.find('e') != std::string::npos) return WalkStep::go_on;
    const SourcePtr content = open(entry).bytes;
    content->extents({0, content->size()}, [&](const Extent& extent) {
      if (extent.kind != ExtentKind::direct) return true;
      const Range part = intersect(range, {extent.below().offset, extent.range.length});
      if (!part.empty())
        claims.push_back(
            {part,
             entry,
             {extent.range.offset + (part.offset - extent.below().offset), part.length}});
      return true;
    });
    return WalkStep::go_on;
  });
  return claims;
}

}  // namespace lantern
