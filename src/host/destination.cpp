#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "lantern/host.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

// The path itself, or the nearest folder above it that is there.
std::optional<HostFile> nearest(const Host& host, const std::string& path) {
  std::error_code error;
  fs::path at = fs::absolute(path, error);
  while (!at.empty()) {
    if (auto file = host.file(at.string())) return file;
    if (at == at.parent_path()) break;
    at = at.parent_path();
  }
  return std::nullopt;
}

bool same_file(const HostFile& a, const HostFile& b) {
  return a.device == b.device && a.inode == b.inode && a.block_device == b.block_device;
}

}  // namespace

std::string why_destination_is_unsafe(const Host& host, const std::string& source,
                                      const std::string& destination) {
  const auto source_file = host.file(source);
  if (!source_file) return {};
  if (const auto exact = host.file(destination)) {
    if (same_file(*exact, *source_file)) return "it is the source itself";
    if (!exact->folder) return "it is a file, not a folder";
  }
  const auto under = nearest(host, destination);
  if (!under) return {};
  for (const std::uint64_t device : host.stack_below(under->device)) {
    if (source_file->block_device && device == source_file->device)
      return fmt::format("it lies on {}, the source itself", source);
    const auto image = host.loop_file(device);
    const auto image_file = image ? host.file(*image) : std::nullopt;
    if (image_file && same_file(*image_file, *source_file))
      return fmt::format("it lies in a mount of {}, the source itself", source);
  }
  if (!source_file->block_device) return {};
  // The destination on a partition of which the source is a part, or the other way round.
  const auto source_stack = host.stack_below(source_file->device);
  if (std::find(source_stack.begin(), source_stack.end(), under->device) != source_stack.end())
    return fmt::format("{} lies on the same device", source);
  return {};
}

}  // namespace lantern
