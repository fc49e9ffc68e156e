#include "nest/opening/folder_neighbours.h"

#include <algorithm>

namespace lantern {
namespace {

class FolderNeighbours final : public Neighbours {
 public:
  FolderNeighbours(std::shared_ptr<const FileSystem> file_system, std::vector<std::string> folder,
                   Address volume)
      : file_system_(std::move(file_system)),
        folder_(std::move(folder)),
        volume_(std::move(volume)) {}

  std::optional<SourcePtr> open(std::string_view raw_name) const override {
    for (const Entry& entry : file_system_->find(path_of(raw_name)))
      if (entry.kind == EntryKind::file) return file_system_->open(entry).bytes;
    return std::nullopt;
  }

  std::vector<std::string> names() const override { return of_kind(EntryKind::file); }
  std::vector<std::string> folders() const override { return of_kind(EntryKind::folder); }

  std::string place(std::string_view raw_name) const override {
    return volume_.with(path_step(path_of(raw_name))).print();
  }

  std::shared_ptr<const Neighbours> folder_of(std::string_view raw_name) const override {
    std::vector<std::string> path = path_of(raw_name);
    path.pop_back();
    return folder_neighbours(file_system_, std::move(path), volume_);
  }

 private:
  std::vector<std::string> of_kind(EntryKind kind) const {
    std::vector<std::string> found;
    WalkOptions options;
    options.under = folder_;
    options.max_depth = 1;
    file_system_->walk(options, [&](const Entry& entry) {
      if (entry.kind == kind) found.push_back(entry.path.back());
      return WalkStep::go_on;
    });
    std::sort(found.begin(), found.end());
    return found;
  }

  std::vector<std::string> path_of(std::string_view raw_name) const {
    std::vector<std::string> path = folder_;
    for (std::size_t from = 0; from <= raw_name.size();) {
      const std::size_t to = std::min(raw_name.find('/', from), raw_name.size());
      path.emplace_back(raw_name.substr(from, to - from));
      from = to + 1;
    }
    return path;
  }

  std::shared_ptr<const FileSystem> file_system_;
  std::vector<std::string> folder_;
  Address volume_;
};

}  // namespace

std::shared_ptr<const Neighbours> folder_neighbours(std::shared_ptr<const FileSystem> file_system,
                                                    std::vector<std::string> folder,
                                                    Address volume) {
  return std::make_shared<FolderNeighbours>(std::move(file_system), std::move(folder),
                                            std::move(volume));
}

}  // namespace lantern
