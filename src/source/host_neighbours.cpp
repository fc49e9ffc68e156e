#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

class HostNeighbours final : public Neighbours {
 public:
  HostNeighbours(std::string folder, const Context& context)
      : folder_(std::move(folder)), context_(context) {}

  std::optional<SourcePtr> open(std::string_view raw_name) const override {
    // A name, never a path: what a disk asks for stays inside the folder.
    if (raw_name.empty() || raw_name == "." || raw_name == ".." ||
        raw_name.find('/') != std::string_view::npos ||
        raw_name.find('\0') != std::string_view::npos)
      return std::nullopt;
    const fs::path path = fs::path(folder_) / fs::path(raw_name);
    std::error_code error;
    if (fs::symlink_status(path, error).type() != fs::file_type::regular) return std::nullopt;
    return open_file_source(path.string(), context_);
  }

  std::vector<std::string> names() const override {
    std::vector<std::string> found;
    std::error_code error;
    for (fs::directory_iterator at(folder_, error), end; !error && at != end; at.increment(error))
      if (at->symlink_status(error).type() == fs::file_type::regular)
        found.push_back(at->path().filename().string());
    std::sort(found.begin(), found.end());
    return found;
  }

 private:
  std::string folder_;
  Context context_;
};

}  // namespace

std::shared_ptr<const Neighbours> host_neighbours(std::string folder, const Context& context) {
  return std::make_shared<HostNeighbours>(folder.empty() ? "." : std::move(folder), context);
}

}  // namespace lantern
