#include "recover/machines/machine_folder.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "container/chain.h"
#include "host/lock_files.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "nest/opening/folder_disks.h"
#include "nest/places/evidence.h"

namespace lantern {
namespace {

struct Found {
  MachineConfig config;
  std::string name;  // of the file
  bool backup = false;
  std::string damaged;  // the configuration it stands in for, when that is there and damaged
};

std::string_view last_name(std::string_view written) {
  return written.substr(written.find_last_of("/\\") + 1);
}

class FolderSearch {
 public:
  FolderSearch(const FolderOfMachines& where, const Host* host, const Session& session)
      : where_(where),
        folder_(*where.folder),
        host_(host),
        session_(session),
        context_(session.context()),
        names_(folder_.names()) {}

  std::vector<FoundMachine> run() const {
    std::vector<FoundMachine> machines;
    for (const Found& found : configs()) {
      context_.check_cancelled();
      machines.push_back(machine_of(found));
    }
    return machines;
  }

 private:
  // Backup copies count only where the configuration itself is gone or damaged.
  std::vector<Found> configs() const {
    std::vector<Found> found;
    for (const std::string& name : names_)
      if (may_be_config(name) && backup_ending(name).empty())
        if (auto config = read(name)) found.push_back({std::move(*config), name, false, {}});
    for (const std::string& name : names_) {
      const std::string_view ending = backup_ending(name);
      if (!may_be_config(name) || ending.empty()) continue;
      const std::string plain = name.substr(0, name.size() - ending.size());
      const auto own = std::find_if(found.begin(), found.end(), [&](const Found& other) {
        return other.name == plain || (other.backup && other.name.starts_with(plain));
      });
      if (own != found.end() && (own->backup || !own->config.damaged)) continue;
      auto config = read(name);
      if (!config || config->damaged) continue;
      const bool there = std::find(names_.begin(), names_.end(), plain) != names_.end();
      Found copy{std::move(*config), name, true, there ? plain : std::string()};
      if (own == found.end())
        found.push_back(std::move(copy));
      else
        *own = std::move(copy);
    }
    return found;
  }

  std::optional<MachineConfig> read(const std::string& name) const {
    const auto file = folder_.open(name);
    return file ? read_config(**file, name) : std::nullopt;
  }

  Surroundings around() const {
    Surroundings around;
    around.beside = where_.folder;
    around.look_in = where_.above;
    for (const std::string& path : session_.options().look_in)
      around.look_in.push_back(host_neighbours(path, context_));
    around.allow_devices = session_.options().allow_devices;
    add_evidence(around);
    return around;
  }

  FoundMachine machine_of(const Found& found) const {
    FoundMachine result;
    result.config_name = found.name;
    Machine& machine = result.machine;
    machine.name = found.config.name.empty() ? found.name : found.config.name;
    machine.config = folder_.place(found.name);
    machine.kind = found.config.kind;
    machine.backup = found.backup;
    machine.snapshots = found.config.snapshots;
    if (machine.snapshots.empty()) machine.snapshots = listed_snapshots(found.name);
    result.needs.insert(machine.config);
    for (const ConfigDisk& disk : found.config.disks) {
      machine.disks.push_back(disk_of(disk, result));
      result.references.emplace_back(last_name(disk.file));
    }
    find_state(found, result);
    report(found, machine);
    return result;
  }

  void report(const Found& found, Machine& machine) const {
    const Context own = context_.at(machine.config);
    if (machine.backup)
      own.report(
          found.damaged.empty() ? FindingCode::machine_backup : FindingCode::machine_config_damaged,
          Severity::warning, {},
          found.damaged.empty()
              ? "only a backup copy of the configuration is left"
              : "the configuration " + for_terminal(folder_.place(found.damaged)) + " is damaged",
          "this backup copy of it is read instead");
    else if (found.config.damaged)
      own.report(FindingCode::machine_config_damaged, Severity::damage, {},
                 "the configuration is damaged, and there is no backup copy of it",
                 "what can be read of it is used");
    if (found.config.damaged || !found.damaged.empty())
      machine.missing.push_back(fmt::format(
          "the configuration {} is damaged{}",
          for_terminal(found.damaged.empty() ? found.name : found.damaged),
          machine.backup
              ? "; its backup copy " + for_terminal(found.name) + " is good and can stand in for it"
              : ""));
    if (machine.state == MachineState::running)
      own.report(
          FindingCode::machine_running, Severity::warning, {},
          fmt::format("\"{}\" runs: {}", for_terminal(machine.name), machine.state_evidence),
          "switch it off before its disks are touched; what is read now may not fit together");
    if (machine.state == MachineState::suspended)
      own.report(FindingCode::machine_suspended, Severity::warning, {},
                 fmt::format("\"{}\" is suspended: {}", for_terminal(machine.name),
                             machine.state_evidence),
                 "its disks can be read, without what its memory holds; nothing is written to them "
                 "until it was resumed and shut down");
  }

  MachineDisk disk_of(const ConfigDisk& wanted, FoundMachine& found) const {
    MachineDisk disk;
    disk.slot = wanted.slot;
    disk.written = wanted.file;
    const Surroundings near = around();
    // A folder form is named by its folder.
    auto file = find_file(wanted.file, near);
    if (!file) file = find_file(wanted.file + "/DiskDescriptor.xml", near);
    if (!file && !wanted.id.empty())
      if (const auto same = find_by_identity(wanted.id, near)) disk.candidate = same->place;
    if (!file) {
      if (disk.candidate.empty()) disk.candidate = by_last_name(wanted.file);
      disk.problem = "the reference leads nowhere";
      context_.at(found.machine.config)
          .report(FindingCode::machine_disk_missing, Severity::damage, {},
                  fmt::format("the disk \"{}\" of \"{}\" is not where the machine says",
                              for_terminal(wanted.file), for_terminal(found.machine.name)),
                  disk.candidate.empty() ? "add its folder to the search folders"
                                         : for_terminal(disk.candidate) + " matches it");
      return disk;
    }
    disk.address = file->place;
    disk.why = file->why;
    found.needs.insert(file->place);
    Surroundings its = file->around;
    its.opening = {file->place};
    const OpenedImage opened = open_image(file->file, its, context_.at(file->place));
    disk.problem = opened.problem;
    const Container& container = opened.container;
    if (!container.flat) return disk;
    disk.format = container.format;
    disk.size_bytes = container.flat->size();
    disk.chain = container.chain;
    for (const ChainLink& link : container.chain)
      if (!link.missing) found.needs.insert(link.place);
    found.needs.insert(container.files.begin(), container.files.end());
    found.extents[disk.address] = container.files;
    return disk;
  }

  // A file of the folder that has the name without its ending: "disk.vdi" for "disk.vmdk".
  std::string by_last_name(const std::string& written) const {
    const std::string last(last_name(written));
    const std::string stem = last.substr(0, last.rfind('.'));
    for (const std::string& name : disks_in(where_.folder, context_))
      if (!stem.empty() && equal_ignoring_case(name.substr(0, name.rfind('.')), stem))
        return folder_.place(name);
    return {};
  }

  // Snapshots in a list beside the configuration: "NAME.vmsd".
  std::vector<MachineSnapshot> listed_snapshots(const std::string& config) const {
    std::vector<MachineSnapshot> snapshots;
    const auto file = folder_.open(config.substr(0, config.rfind('.')) + ".vmsd");
    if (!file || (*file)->size() > kMaxConfig) return snapshots;
    Bytes bytes(static_cast<std::size_t>((*file)->size()));
    (*file)->read(0, bytes);
    const std::string text = text_of(bytes);
    constexpr std::size_t kMaxListed = 1000;
    for (std::size_t i = 0; i < kMaxListed; ++i) {
      const auto value = [&](const std::string& key) {
        const std::string start = fmt::format("snapshot{}.{} = \"", i, key);
        const std::size_t at = text.find(start);
        if (at == std::string::npos) return std::string();
        const std::size_t from = at + start.size();
        return text.substr(from, text.find('"', from) - from);
      };
      if (value("uid").empty() && value("displayName").empty()) break;
      snapshots.push_back({value("uid"), value("displayName"), {}});
    }
    return snapshots;
  }

  // A lock file beside it counts where the machine may still run: on a disk of another it is what a
  // crash or the deletion left.
  void find_state(const Found& found, FoundMachine& result) const {
    Machine& machine = result.machine;
    if (!where_.host_path.empty() && host_ != nullptr && find_holder(machine)) return;
    if (!found.config.saved_state.empty()) {
      const auto saved = find_file(found.config.saved_state, around());
      if (saved)
        result.needs.insert(saved->place);
      else
        machine.missing.push_back("the saved state " + for_terminal(found.config.saved_state));
      return set(
          machine, MachineState::suspended,
          fmt::format("the configuration names the saved state {}{}",
                      for_terminal(found.config.saved_state), saved ? "" : ", which is not here"));
    }
    for (const std::string& name : names_) {
      const bool own_save = equal_ignoring_case(name, machine.name + ".save");
      for (const std::string_view ending : {".vmss", ".sav", ".vsv", ".vmrs", ".mem"})
        if (ends_in(name, ending) || own_save) {
          result.needs.insert(folder_.place(name));
          return set(machine, MachineState::suspended,
                     fmt::format("the saved state {} is beside it", folder_.place(name)));
        }
    }
  }

  bool find_holder(Machine& machine) const {
    for (const MachineDisk& disk : machine.disks) {
      if (disk.address.empty()) continue;
      for (const Holder& holder : host_->holders(disk.address))
        if (holder.writing) {
          set(machine, MachineState::running,
              fmt::format("{} is held open for writing by {} (process {})", disk.address,
                          holder.name, holder.process));
          return true;
        }
      if (const auto lock = host_->lock_on(disk.address)) {
        set(machine, MachineState::running, fmt::format("{} is locked by {}", disk.address, *lock));
        return true;
      }
    }
    const auto locks = lock_files(folder_, {}, true, context_);
    if (locks.empty()) return false;
    machine.by_lock_file = true;
    set(machine, MachineState::running,
        locks.front() + "; if the machine crashed it may be a leftover");
    return true;
  }

  static void set(Machine& machine, MachineState state, std::string evidence) {
    machine.state = state;
    machine.state_evidence = std::move(evidence);
  }

  const FolderOfMachines& where_;
  const Neighbours& folder_;
  const Host* host_;
  const Session& session_;
  const Context& context_;
  std::vector<std::string> names_;
};

}  // namespace

std::vector<std::string> FoundMachine::files_of(const MachineDisk& disk) const {
  std::vector<std::string> files = {disk.address};
  for (const ChainLink& link : disk.chain) files.push_back(link.place);
  if (const auto found = extents.find(disk.address); found != extents.end())
    files.insert(files.end(), found->second.begin(), found->second.end());
  return files;
}

std::vector<FoundMachine> machines_of(const FolderOfMachines& where, const Host* host,
                                      const Session& session) {
  return FolderSearch(where, host, session).run();
}

OpenedImage open_image(const SourcePtr& file, const Surroundings& around, const Context& context) {
  OpenedImage opened;
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  try {
    opened.container = open_container(file, around, quiet);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    opened.problem = error.what();
    return opened;
  }
  for (const FindingGroup& group : quiet.findings->groups())
    if (group.severity == Severity::damage) {
      opened.problem = group.findings.front().message;
      break;
    }
  return opened;
}

}  // namespace lantern
