#include "lantern/machines.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <set>

#include "base/bytes.h"
#include "container/chain.h"
#include "host/lock_files.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "nest/opening/evidence.h"
#include "nest/opening/folder_disks.h"
#include "recover/machines/config.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxText = 4u << 20;
constexpr std::size_t kMaxMachines = 10'000;
constexpr int kMaxDepth = 3;

bool ends_in(const std::string& name, std::string_view ending) {
  return name.size() >= ending.size() &&
         equal_ignoring_case(std::string_view(name).substr(name.size() - ending.size()), ending);
}

// What a backup copy's name ends in; the rest is the name it is a copy of.
std::string_view backup_ending(const std::string& name) {
  for (const std::string_view ending : {"-prev", "-tmp", "~", ".bak", ".old", ".backup"})
    if (ends_in(name, ending)) return ending;
  return {};
}

bool may_be_config(const std::string& name) {
  const std::string plain = name.substr(0, name.size() - backup_ending(name).size());
  for (const std::string_view ending : {".vbox", ".vmx", ".xml", ".ovf", ".pvs", ".conf"})
    if (ends_in(plain, ending)) return true;
  return false;
}

struct Found {
  MachineConfig config;
  std::string name;  // of the file
  bool backup = false;
};

class FolderSearch {
 public:
  FolderSearch(std::shared_ptr<const Neighbours> folder, std::string host_path, const Host& host,
               const Session& session)
      : folder_(std::move(folder)),
        host_path_(std::move(host_path)),
        host_(host),
        session_(session),
        context_(session.context()) {}

  void run(int depth, MachineFolder& result) {
    names_ = folder_->names();
    std::set<std::string> used;
    for (const Found& found : configs()) {
      if (result.machines.size() >= kMaxMachines) return;
      context_.check_cancelled();
      result.machines.push_back(machine_of(found, used));
    }
    for (const std::string& name : disks_in(folder_, context_))
      if (!used.contains(folder_->place(name))) result.loose.push_back(folder_->place(name));
    if (depth >= kMaxDepth) return;
    for (const std::string& name : folder_->folders()) {
      const auto below = folder_->folder_of(name + "/.");
      const std::string path = host_path_.empty() ? std::string() : host_path_ + "/" + name;
      FolderSearch(below, path, host_, session_).run(depth + 1, result);
    }
  }

 private:
  // Backup copies count only where the configuration itself is gone.
  std::vector<Found> configs() const {
    std::vector<Found> found;
    for (const bool backups : {false, true})
      for (const std::string& name : names_) {
        const std::string_view ending = backup_ending(name);
        if (!may_be_config(name) || ending.empty() == backups) continue;
        const std::string plain = name.substr(0, name.size() - ending.size());
        const bool have = std::any_of(found.begin(), found.end(), [&](const Found& other) {
          return backups && (other.name == plain || other.name.starts_with(plain));
        });
        if (have) continue;
        if (auto config = read(name)) found.push_back({std::move(*config), name, backups});
      }
    return found;
  }

  std::optional<MachineConfig> read(const std::string& name) const {
    const auto file = folder_->open(name);
    if (!file || (*file)->size() == 0 || (*file)->size() > kMaxText) return std::nullopt;
    Bytes bytes(static_cast<std::size_t>((*file)->size()));
    (*file)->read(0, bytes);
    const std::string text = text_of(bytes);
    if (auto config = parse_machine_lines(text, name)) return config;
    return parse_machine_xml(text);
  }

  Surroundings around() const {
    Surroundings around;
    around.beside = folder_;
    for (const std::string& path : session_.options().look_in)
      around.look_in.push_back(host_neighbours(path, context_));
    around.allow_devices = session_.options().allow_devices;
    add_evidence(around);
    return around;
  }

  Machine machine_of(const Found& found, std::set<std::string>& used) const {
    Machine machine;
    machine.name = found.config.name.empty() ? found.name : found.config.name;
    machine.config = folder_->place(found.name);
    machine.kind = found.config.kind;
    machine.backup = found.backup;
    machine.snapshots = found.config.snapshots;
    if (machine.snapshots.empty()) machine.snapshots = listed_snapshots(found.name);
    for (const ConfigDisk& disk : found.config.disks)
      machine.disks.push_back(disk_of(disk, machine, used));
    find_state(found, machine);
    const Context own = context_.at(machine.config);
    if (machine.backup)
      own.report(FindingCode::machine_backup, Severity::warning, {},
                 "only a backup copy of the configuration is left", "it is read instead");
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
    return machine;
  }

  MachineDisk disk_of(const ConfigDisk& wanted, const Machine& machine,
                      std::set<std::string>& used) const {
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
      context_.at(machine.config)
          .report(FindingCode::machine_disk_missing, Severity::damage, {},
                  fmt::format("the disk \"{}\" of \"{}\" is not where the machine says",
                              for_terminal(wanted.file), for_terminal(machine.name)),
                  disk.candidate.empty() ? "add its folder to the search folders"
                                         : for_terminal(disk.candidate) + " matches it");
      return disk;
    }
    disk.place = file->place;
    disk.why = file->why;
    used.insert(file->place);
    try {
      Surroundings its = file->around;
      its.opening = {file->place};
      const Container container = open_container(file->file, its, context_.at(file->place));
      disk.format = container.format;
      disk.disk_bytes = container.flat->size();
      disk.chain = container.chain;
      for (const ChainLink& link : container.chain) used.insert(link.place);
      used.insert(container.files.begin(), container.files.end());
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      disk.problem = error.what();
    }
    return disk;
  }

  // A file of the folder that has the name without its ending: "disk.vdi" for "disk.vmdk".
  std::string by_last_name(const std::string& written) const {
    std::string last = written.substr(written.find_last_of("/\\") + 1);
    const std::string stem = last.substr(0, last.rfind('.'));
    for (const std::string& name : disks_in(folder_, context_))
      if (!stem.empty() && equal_ignoring_case(name.substr(0, name.rfind('.')), stem))
        return folder_->place(name);
    return {};
  }

  // Snapshots in a list beside the configuration: "NAME.vmsd".
  std::vector<MachineSnapshot> listed_snapshots(const std::string& config) const {
    std::vector<MachineSnapshot> snapshots;
    const auto file = folder_->open(config.substr(0, config.rfind('.')) + ".vmsd");
    if (!file || (*file)->size() > kMaxText) return snapshots;
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

  void find_state(const Found& found, Machine& machine) const {
    for (const MachineDisk& disk : machine.disks) {
      if (host_path_.empty() || disk.place.empty()) continue;
      for (const Holder& holder : host_.holders(disk.place))
        if (holder.writing)
          return set(machine, MachineState::running,
                     fmt::format("{} is held open for writing by {} (process {})", disk.place,
                                 holder.name, holder.process));
      if (const auto lock = host_.lock_on(disk.place))
        return set(machine, MachineState::running,
                   fmt::format("{} is locked by {}", disk.place, *lock));
    }
    if (const auto locks = lock_files(*folder_, {}, !host_path_.empty(), context_);
        !locks.empty()) {
      machine.by_lock_file = true;
      return set(machine, MachineState::running,
                 locks.front() + "; if the machine crashed it may be a leftover");
    }
    if (!found.config.saved_state.empty()) {
      const bool here = find_file(found.config.saved_state, around()).has_value();
      return set(
          machine, MachineState::suspended,
          fmt::format("the configuration names the saved state {}{}",
                      for_terminal(found.config.saved_state), here ? "" : ", which is not here"));
    }
    for (const std::string& name : names_) {
      const bool own_save = equal_ignoring_case(name, machine.name + ".save");
      for (const std::string_view ending : {".vmss", ".sav", ".vsv", ".vmrs", ".mem"})
        if (ends_in(name, ending) || own_save)
          return set(machine, MachineState::suspended,
                     fmt::format("the saved state {} is beside it", folder_->place(name)));
    }
  }

  static void set(Machine& machine, MachineState state, std::string evidence) {
    machine.state = state;
    machine.state_evidence = std::move(evidence);
  }

  std::shared_ptr<const Neighbours> folder_;
  std::string host_path_;
  const Host& host_;
  const Session& session_;
  const Context& context_;
  std::vector<std::string> names_;
};

}  // namespace

std::string_view to_string(MachineState state) {
  switch (state) {
    case MachineState::off:
      return "off";
    case MachineState::running:
      return "running";
    case MachineState::suspended:
      return "suspended";
  }
  return {};
}

MachineFolder find_machines(const std::shared_ptr<const Neighbours>& folder,
                            const std::string& host_path, const Host& host,
                            const Session& session) {
  if (!folder)
    throw Error(ErrorCode::usage, host_path, std::nullopt, "no folder is given",
                "open one with Session::open_folder");
  MachineFolder result;
  FolderSearch(folder, host_path, host, session).run(0, result);
  return result;
}

}  // namespace lantern
