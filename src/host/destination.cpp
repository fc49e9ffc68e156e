#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "lantern/host.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

// Device stacks deeper than this are a loop.
constexpr std::size_t kMaxDevices = 256;

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

// Every device that a write to `device` reaches, through image files behind loop devices as well.
std::vector<std::uint64_t> devices_written(const Host& host, std::uint64_t device) {
  std::vector<std::uint64_t> devices = {device};
  const auto add = [&](std::uint64_t below) {
    if (std::find(devices.begin(), devices.end(), below) == devices.end()) devices.push_back(below);
  };
  for (std::size_t i = 0; i < devices.size() && devices.size() < kMaxDevices; ++i) {
    const std::uint64_t at = devices[i];
    for (const std::uint64_t below : host.stack_below(at)) add(below);
    const auto image = host.loop_file(at);
    const auto image_file = image ? host.file(*image) : std::nullopt;
    if (image_file && !image_file->block_device) add(image_file->device);
  }
  return devices;
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
  // A loop device stands for its image: so does every other one on the same image.
  const auto own_image =
      source_file->block_device ? host.loop_file(source_file->device) : std::nullopt;
  const auto source_image = own_image ? host.file(*own_image) : source_file;
  for (const std::uint64_t device : devices_written(host, under->device)) {
    if (source_file->block_device && device == source_file->device)
      return fmt::format("it is on {}, the source itself", source);
    const auto image = host.loop_file(device);
    const auto image_file = image ? host.file(*image) : std::nullopt;
    if (image_file && source_image && same_file(*image_file, *source_image))
      return fmt::format("it is in a mount of {}, the source itself", source);
  }
  if (!source_file->block_device) return {};
  // The other way round: the source is made of the device the destination is on.
  const auto source_stack = host.stack_below(source_file->device);
  if (std::find(source_stack.begin(), source_stack.end(), under->device) != source_stack.end())
    return fmt::format("{} is on the same device", source);
  return {};
}

}  // namespace lantern
