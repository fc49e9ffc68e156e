#include "host/lasting_name.h"

#include <filesystem>

namespace lantern {
namespace {

namespace fs = std::filesystem;

constexpr const char* kById = "/dev/disk/by-id";

}  // namespace

std::string lasting_name(const std::string& path) {
  std::error_code error;
  const fs::path device = fs::canonical(path, error);
  if (error || !fs::is_block_file(device, error)) return {};
  std::string best;
  for (const auto& entry : fs::directory_iterator(kById, error)) {
    const fs::path target = fs::canonical(entry.path(), error);
    if (error || target != device) continue;
    const std::string name = entry.path().filename().string();
    if (name.size() > best.size()) best = name;
  }
  return best;
}

std::optional<std::string> device_of(const std::string& name) {
  std::error_code error;
  // A name from a journal is no path to anywhere else.
  if (name.empty() || name.find('/') != std::string::npos) return std::nullopt;
  const fs::path device = fs::canonical(fs::path(kById) / name, error);
  if (error) return std::nullopt;
  return device.string();
}

}  // namespace lantern
