#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

// Whether every part of the path is a plain name: what a disk asks for stays inside the folder.
bool stays_inside(std::string_view path) {
  if (path.empty() || path.find('\0') != std::string_view::npos) return false;
  for (std::size_t from = 0; from <= path.size();) {
    const std::size_t to = std::min(path.find('/', from), path.size());
    const std::string_view part = path.substr(from, to - from);
    if (part.empty() || part == "." || part == "..") return false;
    from = to + 1;
  }
  return true;
}

class HostNeighbours final : public Neighbours {
 public:
  HostNeighbours(std::string folder, const Context& context)
      : folder_(std::move(folder)), context_(context) {}

  std::optional<SourcePtr> open(std::string_view raw_name) const override {
    if (!stays_inside(raw_name)) return std::nullopt;
    std::error_code error;
    fs::path path = folder_;
    const fs::path wanted(raw_name);
    for (auto part = wanted.begin(); part != wanted.end(); ++part) {
      path /= *part;
      const fs::file_type type = fs::symlink_status(path, error).type();
      const bool last = std::next(part) == wanted.end();
      if (type != (last ? fs::file_type::regular : fs::file_type::directory)) return std::nullopt;
    }
    return open_file_source(path.string(), context_);
  }

  std::vector<std::string> names() const override { return of_type(fs::file_type::regular); }
  std::vector<std::string> folders() const override { return of_type(fs::file_type::directory); }

  std::string place(std::string_view raw_name) const override {
    return (fs::path(folder_) / fs::path(raw_name)).lexically_normal().string();
  }

  std::shared_ptr<const Neighbours> folder_of(std::string_view raw_name) const override {
    return host_neighbours((fs::path(folder_) / fs::path(raw_name)).parent_path().string(),
                           context_);
  }

 private:
  std::vector<std::string> of_type(fs::file_type type) const {
    std::vector<std::string> found;
    std::error_code error;
    for (fs::directory_iterator at(folder_, error), end; !error && at != end; at.increment(error))
      if (at->symlink_status(error).type() == type) found.push_back(at->path().filename().string());
    std::sort(found.begin(), found.end());
    return found;
  }

  std::string folder_;
  Context context_;
};

}  // namespace

std::shared_ptr<const Neighbours> host_neighbours(std::string folder, const Context& context) {
  return std::make_shared<HostNeighbours>(folder.empty() ? "." : std::move(folder), context);
}

}  // namespace lantern
