#include "recover/machines/machine_files.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "host/lock_files.h"
#include "lantern/address.h"
#include "lantern/error.h"
#include "lantern/recover/content_check.h"
#include "lantern/text.h"
#include "nest/opening/entry_folder.h"
#include "nest/opening/surroundings.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxFiles = 100'000;  // of one machine
constexpr int kMaxFolderDepth = 8;          // deep
constexpr int kMaxUp = 2;                   // from the configuration's folder to the machine's

std::string_view stem_of(std::string_view name) {
  return name.substr(0, name.rfind('.'));
}

// The name of a deleted FAT file that lost its first letter, by what names it: a reference in the
// configuration, a file beside it of the same name with another ending, or what such a file is
// always called. Empty: nothing does.
std::string full_name(const std::string& lost, const std::vector<std::string>& references,
                      const std::vector<std::string>& beside) {
  const std::string_view rest = std::string_view(lost).substr(1);
  const auto fits = [&](std::string_view name) {
    return name.size() == lost.size() && equal_ignoring_case(name.substr(1), rest);
  };
  for (const std::string& name : references)
    if (fits(name)) return name;
  for (const std::string_view name : {"config.pvs", "DiskDescriptor.xml"})
    if (fits(name)) return std::string(name);
  std::set<char> letters;
  const std::string_view stem = stem_of(rest);
  for (const std::string& name : beside) {
    const std::string_view other = name;
    const bool same = other.size() > stem.size() &&
                      equal_ignoring_case(other.substr(1, stem.size()), stem) &&
                      (other.size() == stem.size() + 1 || other[stem.size() + 1] == '.' ||
                       other[stem.size() + 1] == '-' || other[stem.size() + 1] == '_');
    if (same) letters.insert(name.front());
  }
  if (letters.size() != 1) return {};
  const bool capitals =
      std::none_of(rest.begin(), rest.end(), [](char c) { return c >= 'a' && c <= 'z'; });
  const char letter = *letters.begin();
  const bool small = letter >= 'a' && letter <= 'z';
  return (capitals && small ? static_cast<char>(letter - 'a' + 'A') : letter) + std::string(rest);
}

// The machine's files where its folder lies in a file system.
class FilesOnVolume {
 public:
  FilesOnVolume(FoundMachine& found, std::shared_ptr<const EntryFolder> config_folder,
                const std::set<std::string>& other_configs, const Context& context)
      : found_(found),
        machine_(found.machine),
        folder_(std::move(config_folder)),
        volume_(folder_->volume()),
        files_(*volume_->file_system()),
        other_configs_(other_configs),
        context_(context) {}

  void run() {
    const auto config = entry_at(machine_.config);
    if (!config) return;
    machine_.found = config->state;
    find_root();
    const bool whole_folder = owns_folder();
    machine_.address =
        (root_->folder() ? entry_address(*volume_, *root_->folder()) : volume_->address).print();
    if (whole_folder)
      add_below(*root_, 0);
    else
      add_own_files();
    complete_names();
    add_restore(whole_folder);
    check_needed();
  }

 private:
  std::optional<Entry> entry_at(const std::string& place) const {
    const Address address = Address::parse(place);
    if (address.steps.empty()) return std::nullopt;
    Address above = address;
    above.steps.pop_back();
    if (!(above == volume_->address)) return std::nullopt;
    const Step& step = address.steps.back();
    if (step.kind == Step::Kind::entry) return files_.entry(step.text);
    if (step.kind != Step::Kind::path) return std::nullopt;
    for (Entry& entry : files_.find(step.components)) return std::move(entry);
    return std::nullopt;
  }

  // The folder that holds all the machine needs, near above its configuration.
  void find_root() {
    std::vector<Entry> needed;
    for (const std::string& place : found_.needs)
      if (auto entry = entry_at(place)) needed.push_back(std::move(*entry));
    root_ = folder_;
    for (int up = 0; up <= kMaxUp && root_; ++up, root_ = root_->parent()) {
      const std::size_t depth = root_->folder() ? root_->folder()->path.size() : 0;
      const bool holds_all =
          depth > 0 && std::all_of(needed.begin(), needed.end(), [&](const Entry& entry) {
            return entry.path.size() > depth &&
                   std::equal(root_->folder()->path.begin(), root_->folder()->path.end(),
                              entry.path.begin());
          });
      if (holds_all) return;
    }
    root_ = folder_;
  }

  // Whether nothing but this machine lies in the folder.
  bool owns_folder() const {
    if (!root_->folder()) return false;
    const auto& path = root_->folder()->path;
    for (const std::string& place : found_.needs)
      if (const auto entry = entry_at(place);
          entry && (entry->path.size() <= path.size() ||
                    !std::equal(path.begin(), path.end(), entry->path.begin())))
        return false;
    return std::none_of(other_configs_.begin(), other_configs_.end(),
                        [&](const std::string& other) {
                          if (other == machine_.config) return false;
                          const auto entry = entry_at(other);
                          return entry && entry->path.size() > path.size() &&
                                 std::equal(path.begin(), path.end(), entry->path.begin()) &&
                                 !is_copy_of_own(entry->path.back());
                        });
  }

  // A backup copy of this machine's own configuration, or an older state of it.
  bool is_copy_of_own(const std::string& name) const {
    const auto plain = [](std::string_view one) {
      return one.substr(0, one.size() - backup_ending(one).size());
    };
    return equal_ignoring_case(plain(name), plain(found_.config_name));
  }

  void add_below(const EntryFolder& folder, int depth) {
    const std::vector<std::string> names = folder.names();
    repeats_ = repeats_ || folder.repeats();
    for (const std::string& name : names)
      if (const auto entry = folder.find(name)) add(*entry);
    if (depth >= kMaxFolderDepth) return;
    for (const std::string& name : folder.folders()) {
      context_.check_cancelled();
      const auto below = folder.folder_of(name + "/.");
      if (const auto* const inside = dynamic_cast<const EntryFolder*>(below.get()))
        add_below(*inside, depth + 1);
    }
  }

  // Where others share the folder: what the machine needs, and what is called as its configuration.
  void add_own_files() {
    const std::vector<std::string> names = folder_->names();
    std::set<std::string> added;
    for (const std::string& place : found_.needs)
      if (const auto entry = entry_at(place); entry && added.insert(entry->id).second) add(*entry);
    const std::string_view stem = stem_of(found_.config_name);
    for (const std::string& name : names)
      if (const auto entry = folder_->find(name);
          entry && stem_of(name) == stem && added.insert(entry->id).second)
        add(*entry);
  }

  void add(const Entry& entry) {
    if (machine_.files.size() >= kMaxFiles) return;
    MachineFile file;
    file.address = entry_address(*volume_, entry).print();
    const std::size_t above = root_->folder() ? root_->folder()->path.size() : 0;
    const bool below = entry.path.size() > above;
    file.path = path_text({entry.path.begin() + static_cast<std::ptrdiff_t>(below ? above : 0),
                           entry.path.end()})
                    .substr(1);
    file.state = entry.state;
    file.size_bytes = entry.size_bytes;
    file.intact = entry.intact;
    file.needed = found_.needs.contains(file.address);
    file.stale_lock =
        std::any_of(entry.path.begin() + static_cast<std::ptrdiff_t>(below ? above : 0),
                    entry.path.end(), is_lock_file);
    if (entry.name_incomplete)
      incomplete_.emplace_back(machine_.files.size(), entry.path.back());
    else
      complete_names_.push_back(entry.path.back());
    machine_.files.push_back(std::move(file));
  }

  void complete_names() {
    for (const auto& [index, name] : incomplete_)
      machine_.files[index].written_as = full_name(name, found_.references, complete_names_);
  }

  void add_restore(bool whole_folder) {
    MachineRestore restore;
    restore.address = whole_folder ? machine_.address : volume_->address.print();
    for (const MachineFile& file : machine_.files) {
      const auto entry = entry_at(file.address);
      if (!entry) continue;
      restore.deleted = restore.deleted || entry->state != EntryState::active;
      restore.active = restore.active || entry->state == EntryState::active;
      restore.locks = restore.locks || file.stale_lock;
      // Of several states of a file only the best one is to have its name.
      if ((!whole_folder || repeats_) && !file.stale_lock) restore.ids.push_back(entry->id);
      if (!file.written_as.empty()) restore.names[entry->id] = file.written_as;
    }
    machine_.restore = std::move(restore);
  }

  // What is not known to be whole: a lost part is missing; a doubt is lifted where the disk holds
  // together.
  void check_needed() {
    std::map<std::string, const MachineFile*> doubtful;
    for (const MachineFile& file : machine_.files) {
      if (!file.needed || file.intact.value_or(0) == 1) continue;
      context_.check_cancelled();
      const auto entry = entry_at(file.address);
      if (!entry) continue;
      const Content content = files_.open(*entry);
      std::uint64_t lost = 0;
      for (const Range& range : content.lost) lost += range.length;
      if (lost > 0)
        machine_.missing.push_back(
            fmt::format("{} of {} bytes of {}", lost, file.size_bytes, for_terminal(file.path)));
      else if (file.address != machine_.config && !content.doubtful.empty())
        doubtful.emplace(file.address, &file);
    }
    if (doubtful.empty()) return;
    for (const MachineDisk& disk : machine_.disks)
      if (disk.problem.empty() && holds_together(disk)) {
        for (const std::string& place : found_.files_of(disk)) doubtful.erase(place);
      }
    for (const auto& [address, file] : doubtful)
      machine_.missing.push_back(
          fmt::format("{} is in doubt: {:.0f} % of it are intact for certain",
                      for_terminal(file->path), std::floor(file->intact.value_or(0) * 100)));
  }

  bool holds_together(const MachineDisk& disk) const {
    const auto entry = entry_at(disk.address);
    if (!entry) return false;
    Surroundings around;
    around.name = entry->path.back();
    around.beside = EntryFolder::beside(volume_, *entry, entry->state != EntryState::active);
    return check_image(files_.open(*entry).bytes, around, context_).structure ==
           StructureState::complete;
  }

  FoundMachine& found_;
  Machine& machine_;
  std::shared_ptr<const EntryFolder> folder_, root_;
  std::vector<std::pair<std::size_t, std::string>> incomplete_;  // files and their names
  std::vector<std::string> complete_names_;
  bool repeats_ = false;  // a name in the folder has more than one entry
  VolumePtr volume_;
  const FileSystem& files_;
  const std::set<std::string>& other_configs_;
  const Context& context_;
};

void add_host_files(Machine& machine, const Neighbours& folder, const std::set<std::string>& needs,
                    const std::string& prefix, int depth) {
  for (const std::string& name : folder.names()) {
    if (machine.files.size() >= kMaxFiles) return;
    MachineFile file;
    file.address = folder.place(name);
    file.path = prefix + name;
    file.needed = needs.contains(file.address);
    file.stale_lock = is_lock_file(name);
    file.intact = 1;
    if (const auto bytes = folder.open(name)) file.size_bytes = (*bytes)->size();
    machine.files.push_back(std::move(file));
  }
  if (depth >= kMaxFolderDepth) return;
  for (const std::string& name : folder.folders())
    add_host_files(machine, *folder.folder_of(name + "/."), needs, prefix + name + "/", depth + 1);
}

// The folder of this computer or of an archive that holds all the machine needs: the
// configuration's own, or one above it.
void add_files_of_folder(FoundMachine& found, const FolderOfMachines& where) {
  std::shared_ptr<const Neighbours> folder = where.folder;
  const auto holds_all = [&](const Neighbours& one) {
    // What its places begin with.
    std::string start = one.place("?");
    start.pop_back();
    return std::all_of(found.needs.begin(), found.needs.end(),
                       [&](const std::string& place) { return place.starts_with(start); });
  };
  if (!holds_all(*folder))
    for (const auto& above : where.above)
      if (holds_all(*above)) {
        folder = above;
        break;
      }
  found.machine.address = where.host_path;
  add_host_files(found.machine, *folder, found.needs, {}, 0);
  // Where others share the folder: what the machine needs, and what is called as its configuration.
  const bool shared = std::any_of(where.disks.begin(), where.disks.end(),
                                  [&](const auto& disk) { return !found.needs.contains(disk); });
  if (!shared) return;
  std::erase_if(found.machine.files, [&](const MachineFile& file) {
    return !file.needed && stem_of(file.path) != stem_of(found.config_name);
  });
}

}  // namespace

void add_files(FoundMachine& found, const FolderOfMachines& where,
               const std::set<std::string>& other_configs, const Context& context) {
  Machine& machine = found.machine;
  if (const auto entries = std::dynamic_pointer_cast<const EntryFolder>(where.folder))
    FilesOnVolume(found, entries, other_configs, context).run();
  else
    add_files_of_folder(found, where);
  for (const MachineDisk& disk : machine.disks) {
    if (disk.address.empty())
      machine.missing.push_back(fmt::format(
          "the disk {}{}", for_terminal(disk.written),
          disk.candidate.empty() ? "" : "; " + for_terminal(disk.candidate) + " may be it"));
    else if (!disk.problem.empty())
      machine.missing.push_back(fmt::format("of the disk {}: {}", for_terminal(disk.written),
                                            for_terminal(disk.problem)));
  }
  if (!machine.complete())
    context.at(machine.config)
        .report(FindingCode::machine_incomplete, Severity::warning, {},
                fmt::format("\"{}\" is not complete: {}", for_terminal(machine.name),
                            machine.missing.front()),
                machine.missing.size() > 1
                    ? fmt::format("{} more are missing", machine.missing.size() - 1)
                    : "");
}

}  // namespace lantern
