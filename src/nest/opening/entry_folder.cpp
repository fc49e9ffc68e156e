#include "nest/opening/entry_folder.h"

#include <algorithm>
#include <set>

#include "lantern/nest/target.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxListed = 200'000;  // of one folder

bool better(const Entry& one, const Entry& other) {
  const bool active = one.state == EntryState::active,
             other_active = other.state == EntryState::active;
  if (active != other_active) return active;
  return one.intact.value_or(0.5) > other.intact.value_or(0.5);
}

// "_auge.vdi" for "gauge.vdi".
bool answers_without_first(const Entry& entry, std::string_view name) {
  const std::string& own = entry.path.back();
  return entry.name_incomplete && own.size() == name.size() && own.size() > 1 &&
         equal_ignoring_case(std::string_view(own).substr(1), name.substr(1));
}

}  // namespace

std::shared_ptr<const EntryFolder> EntryFolder::open(VolumePtr volume, std::optional<Entry> folder,
                                                     bool deleted) {
  return std::make_shared<EntryFolder>(std::move(volume), std::move(folder), deleted);
}

std::shared_ptr<const EntryFolder> EntryFolder::beside(const VolumePtr& volume, const Entry& entry,
                                                       bool deleted) {
  const bool in_root = entry.parent.empty() || entry.path.size() < 2;
  return open(volume, in_root ? std::nullopt : volume->file_system()->entry(entry.parent), deleted);
}

std::shared_ptr<const EntryFolder> EntryFolder::parent() const {
  return folder_ ? beside(volume_, *folder_, deleted_) : nullptr;
}

const std::vector<Entry>& EntryFolder::entries(bool deleted) const {
  const std::lock_guard lock(mutex_);
  std::optional<std::vector<Entry>>& list = deleted ? all_ : active_;
  if (list) return *list;
  list.emplace();
  WalkOptions options;
  if (folder_) options.under = folder_->path;
  options.max_depth = 1;
  options.active = true;
  options.deleted = deleted || (folder_ && folder_->state != EntryState::active);
  volume_->file_system()->walk(options, [&](const Entry& entry) {
    const bool ours = folder_ ? entry.parent == folder_->id : entry.path.size() == 1;
    if (ours) list->push_back(entry);
    return list->size() < kMaxListed ? WalkStep::skip_folder : WalkStep::stop;
  });
  std::stable_sort(list->begin(), list->end(), better);
  return *list;
}

std::optional<Entry> EntryFolder::find_here(std::string_view name) const {
  const bool any_case = volume_->file_system()->facts().format != "ext";
  for (const bool deleted : {false, true}) {
    for (const Entry& entry : entries(deleted))
      if (entry.path.back() == name) return entry;
    if (any_case)
      for (const Entry& entry : entries(deleted))
        if (equal_ignoring_case(entry.path.back(), name)) return entry;
  }
  for (const Entry& entry : entries(true))
    if (answers_without_first(entry, name)) return entry;
  return std::nullopt;
}

std::optional<Entry> EntryFolder::find(std::string_view raw_name) const {
  const std::size_t slash = raw_name.find('/');
  if (slash == std::string_view::npos) return find_here(raw_name);
  const auto below = find_here(raw_name.substr(0, slash));
  if (!below || below->kind != EntryKind::folder) return std::nullopt;
  return open(volume_, below, deleted_)->find(raw_name.substr(slash + 1));
}

std::optional<SourcePtr> EntryFolder::open(std::string_view raw_name) const {
  const auto entry = find(raw_name);
  if (!entry || entry->kind != EntryKind::file) return std::nullopt;
  return volume_->file_system()->open(*entry).bytes;
}

std::vector<std::string> EntryFolder::of_kind(EntryKind kind) const {
  std::set<std::string> found;
  for (const Entry& entry : entries(deleted_))
    if (entry.kind == kind) found.insert(entry.path.back());
  return {found.begin(), found.end()};
}

std::vector<std::string> EntryFolder::names() const {
  return of_kind(EntryKind::file);
}

std::vector<std::string> EntryFolder::folders() const {
  return of_kind(EntryKind::folder);
}

bool EntryFolder::repeats() const {
  std::set<std::string> seen;
  const std::vector<Entry>& all = entries(deleted_);
  return !std::all_of(all.begin(), all.end(),
                      [&](const Entry& entry) { return seen.insert(entry.path.back()).second; });
}

std::string EntryFolder::place(std::string_view raw_name) const {
  if (const auto entry = find(raw_name)) return entry_address(*volume_, *entry).print();
  std::vector<std::string> path = folder_ ? folder_->path : std::vector<std::string>();
  for (std::size_t from = 0; from <= raw_name.size();) {
    const std::size_t to = std::min(raw_name.find('/', from), raw_name.size());
    path.emplace_back(raw_name.substr(from, to - from));
    from = to + 1;
  }
  return volume_->address.with(path_step(std::move(path))).print();
}

std::shared_ptr<const Neighbours> EntryFolder::folder_of(std::string_view raw_name) const {
  const std::size_t slash = raw_name.rfind('/');
  const auto folder = slash == std::string_view::npos ? folder_ : find(raw_name.substr(0, slash));
  return open(volume_, folder, deleted_);
}

}  // namespace lantern
