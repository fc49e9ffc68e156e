#include "lantern/machines.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <set>

#include "container/chain.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "nest/opening/entry_folder.h"
#include "nest/opening/folder_disks.h"
#include "nest/opening/surroundings.h"
#include "nest/places/evidence.h"
#include "recover/machines/candidates.h"
#include "recover/machines/machine_files.h"
#include "recover/machines/volume_claims.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxMachines = 10'000;
constexpr std::size_t kMaxFolders = 100'000;  // of this computer
constexpr int kMaxDepth = 32;                 // folders of this computer, when they are searched
constexpr int kMaxNear = 3;                   // and when a disk's own machine is looked for
constexpr std::size_t kMaxImages = 1000;      // that are looked into
constexpr int kMaxAbove = 2;                  // folders above a configuration's own

class Search {
 public:
  Search(MachineSearch search, const Host* host, const Session& session)
      : search_(search), host_(host), session_(session), context_(session.context()) {}

  // A folder of this computer or of an archive, and those below it.
  void folder(FolderOfMachines where, int depth) {
    context_.check_cancelled();
    if (++folders_ > kMaxFolders) return;
    const std::vector<std::string> disks = disks_in(where.folder, context_);
    for (const std::string& name : disks) where.disks.push_back(where.folder->place(name));
    for (FoundMachine& found : machines_of(where, host_, session_)) {
      add_files(found, where, {}, context_);
      add(std::move(found));
    }
    for (const std::string& name : disks) {
      const std::string place = where.folder->place(name);
      if (used_.contains(place)) continue;
      const auto file = where.folder->open(name);
      if (file) loose_.push_back({place, *file, surroundings(name, where.folder, session_), {}});
    }
    if (!disks.empty() && !where.host_path.empty() && search_.images > 0)
      spanned(session_.spanned_sets(Address{where.host_path, {}}));
    if (depth >= (search_.images > 0 ? kMaxDepth : kMaxNear)) return;
    for (const std::string& name : where.folder->folders()) {
      FolderOfMachines below{where.folder->folder_of(name + "/."),
                             where.host_path.empty() ? "" : where.host_path + "/" + name,
                             {where.folder}};
      for (const auto& above : where.above)
        if (below.above.size() < kMaxAbove) below.above.push_back(above);
      folder(below, depth + 1);
    }
  }

  // A volume, or a folder in it.
  void volume(const Target& target) {
    const VolumePtr& volume = target.volume;
    const MachineCandidates candidates = find_candidates(target, search_.deleted, context_);
    const FileSystem& files = target.file_system();
    std::set<std::string> configs;
    std::map<std::string, std::vector<const Entry*>> by_folder;  // by the folder's id
    for (const Entry& entry : candidates.configs) {
      configs.insert(entry_address(*volume, entry).print());
      by_folder[entry.parent].push_back(&entry);
    }
    for (const auto& [parent, entries] : by_folder) {
      context_.check_cancelled();
      const bool deleted = search_.deleted;
      FolderOfMachines where{EntryFolder::beside(volume, *entries.front(), deleted), {}, {}};
      auto above = std::static_pointer_cast<const EntryFolder>(where.folder)->parent();
      for (int up = 0; up < kMaxAbove && above; ++up, above = above->parent())
        where.above.push_back(above);
      where.above.push_back(EntryFolder::open(volume, std::nullopt, deleted));
      for (FoundMachine& found : machines_of(where, nullptr, session_)) {
        propose(found.machine, candidates.images, target);
        add_files(found, where, configs, context_);
        add(std::move(found));
      }
    }
    for (const Entry& entry : candidates.images) {
      const std::string place = entry_address(*volume, entry).print();
      if (used_.contains(place)) continue;
      const auto beside = EntryFolder::beside(volume, entry, search_.deleted);
      Surroundings around = surroundings(entry.path.back(), beside, session_);
      around.opening = {place};
      loose_.push_back({place, files.open(entry).bytes, std::move(around), entry});
    }
  }

  // Machines whose definitions stand on volumes of arrays and groups, and those whose disks are
  // such volumes.
  void spanned(const std::shared_ptr<const SpannedSets>& sets) {
    if (sets->sets.empty()) return;
    sets_.push_back(sets);
    for (const Target& target : spanned_targets(sets, session_)) {
      for (VolumeClaim& claim : volume_claims(target.volume, context_))
        claims_.push_back(std::move(claim));
      volume(target);
    }
  }
  // As `spanned` of a disk of their own.
  void claims_on(const VolumePtr& volume) {
    for (VolumeClaim& claim : volume_claims(volume, context_)) claims_.push_back(std::move(claim));
  }

  // What no machine names, once all machines are known.
  MachinesFound finish() {
    take_claims();
    std::set<std::string> below;
    std::vector<LooseDisk> disks;
    for (const Loose& loose : loose_) {
      context_.check_cancelled();
      if (used_.contains(loose.place)) continue;
      const OpenedImage opened = open_image(loose.file, loose.around, context_);
      for (const ChainLink& link : opened.container.chain) below.insert(link.place);
      below.insert(opened.container.files.begin(), opened.container.files.end());
      LooseDisk disk;
      disk.address = loose.place;
      disk.problem = opened.problem;
      if (loose.entry) {
        disk.state = loose.entry->state;
        disk.intact = loose.entry->intact;
      }
      if (opened.container.flat) {
        disk.format = opened.container.format;
        disk.size_bytes = opened.container.flat->size();
        disk.chain = opened.container.chain;
        disk.snapshots = opened.container.versions;
      }
      disks.push_back(std::move(disk));
    }
    const std::set<std::string> members = member_files();
    for (LooseDisk& disk : disks)
      if (!below.contains(disk.address) && !members.contains(plain_path(disk.address)))
        found_.loose.push_back(std::move(disk));
    look_inside();
    std::move(inside_.begin(), inside_.end(), std::back_inserter(found_.loose));
    report_names();
    return std::move(found_);
  }

 private:
  static std::string plain_path(const std::string& path) {
    return std::filesystem::path(path).lexically_normal().string();
  }

  // Files of this computer that are members of arrays and groups: no disks of machines.
  std::set<std::string> member_files() const {
    std::set<std::string> files;
    for (const auto& sets : sets_)
      for (const SpannedSets::Set& one : sets->sets)
        for (const LayerPtr& member : one.members)
          walk_layers(member, [&](const Layer& layer) {
            if (const auto* const file = dynamic_cast<const FileLayer*>(&layer))
              files.insert(plain_path(file->path));
            return true;
          });
    return files;
  }

  // Disks that a machine names as devices are volumes here; machines that only tables know are
  // added.
  void take_claims() {
    for (const VolumeClaim& claim : claims_) {
      VolumePtr claimed;
      for (const auto& sets : sets_)
        if (!claimed) claimed = claimed_volume(claim, *sets);
      const auto same = [&](const Machine& machine) {
        return machine.name == claim.machine && machine.config == claim.config;
      };
      auto machine = std::find_if(found_.machines.begin(), found_.machines.end(), same);
      if (machine == found_.machines.end()) {
        if (found_.machines.size() >= kMaxMachines) return;
        Machine made;
        made.name = claim.machine;
        made.config = made.address = claim.config;
        made.kind = claim.kind;
        found_.machines.push_back(std::move(made));
        machine = std::prev(found_.machines.end());
      }
      auto disk =
          std::find_if(machine->disks.begin(), machine->disks.end(),
                       [&](const MachineDisk& one) { return one.written == claim.written; });
      if (disk == machine->disks.end()) {
        machine->disks.push_back({claim.slot, claim.written, {}, {}, {}, 0, {}, {}, {}});
        disk = std::prev(machine->disks.end());
      }
      if (!claimed) {
        if (disk->address.empty() && disk->problem.empty()) {
          disk->problem = "it is not among these disks";
          machine->missing.push_back(claim.slot + ": " + claim.written);
        }
        continue;
      }
      disk->address = claimed->address.print();
      disk->why = claim.disk_name.empty() ? "the volume of that name"
                                          : fmt::format("disk \"{}\"", claim.disk_name);
      disk->size_bytes = claimed->bytes->size();
      disk->problem.clear();
      disk->format = claimed->row.type;
      std::erase_if(machine->missing, [&](const std::string& missing) {
        return missing.find(claim.written) != std::string::npos;
      });
    }
  }

  struct Loose {
    std::string place;
    SourcePtr file;
    Surroundings around;
    std::optional<Entry> entry;  // in a volume
  };

  void add(FoundMachine found) {
    used_.insert(found.needs.begin(), found.needs.end());
    if (found_.machines.size() < kMaxMachines) found_.machines.push_back(std::move(found.machine));
  }

  // Images elsewhere on the volume, for a reference that leads nowhere: by identity, else by name.
  void propose(Machine& machine, const std::vector<Entry>& images, const Target& target) const {
    for (MachineDisk& disk : machine.disks) {
      if (!disk.address.empty() || !disk.candidate.empty()) continue;
      const std::string name = disk.written.substr(disk.written.find_last_of("/\\") + 1);
      for (const Entry& image : images)
        if (equal_ignoring_case(image.path.back(), name)) {
          disk.candidate = entry_address(target.volume_layer(), image).print();
          break;
        }
    }
  }

  // What each image holds, and the machines in it.
  void look_inside() {
    if (search_.images == 0) return;
    std::size_t looked = 0;
    for (LooseDisk& disk : found_.loose) {
      if (++looked > kMaxImages) return;
      for (const Target& target : volumes_in(disk.address, disk.holds)) inside(target);
    }
    std::vector<std::string> of_machines;
    for (const Machine& machine : found_.machines)
      for (const MachineDisk& disk : machine.disks)
        if (!disk.address.empty()) of_machines.push_back(disk.address);
    for (const std::string& address : of_machines) {
      if (++looked > kMaxImages) return;
      std::vector<std::string> holds;
      for (const Target& target : volumes_in(address, holds)) inside(target);
    }
  }

  void inside(const Target& target) {
    MachineSearch deeper = search_;
    --deeper.images;
    Search within(deeper, nullptr, session_);
    within.volume(target);
    MachinesFound found = within.finish();
    std::move(found.machines.begin(), found.machines.end(), std::back_inserter(found_.machines));
    std::move(found.loose.begin(), found.loose.end(), std::back_inserter(inside_));
  }

  std::vector<Target> volumes_in(const std::string& address,
                                 std::vector<std::string>& holds) const {
    std::vector<Target> targets;
    Context quiet = context_;
    quiet.findings = std::make_shared<FindingSink>();
    try {
      const Target disk = session_.with(quiet).open_disk(Address::parse(address));
      for (const VolumePtr& volume : disk.disk().volumes.all()) {
        std::string what = content_of(*volume);
        if (what.empty()) what = "unknown";
        const auto& files = volume->file_system();
        if (files && !files->facts().label.empty())
          what += " \"" + for_terminal(files->facts().label) + "\"";
        holds.push_back(fmt::format("volume {}: {}, {}", volume->row.number, what,
                                    human_size(volume->row.range.length)));
        if (!files) continue;
        targets.push_back(disk);
        targets.back().volume = volume;
      }
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
    }
    return targets;
  }

  void report_names() const {
    std::map<std::string, const Machine*> names;
    for (const Machine& machine : found_.machines) {
      const auto [first, is_new] = names.emplace(machine.name, &machine);
      if (!is_new)
        context_.at(machine.config)
            .report(FindingCode::machine_two_of_a_name, Severity::note, {},
                    fmt::format("another machine is called \"{}\" too: {}",
                                for_terminal(machine.name), for_terminal(first->second->config)),
                    "each is listed by its own address");
    }
  }

  MachineSearch search_;
  const Host* host_;
  const Session& session_;
  const Context& context_;
  MachinesFound found_;
  std::vector<Loose> loose_;
  std::vector<LooseDisk> inside_;  // images
  std::set<std::string> used_;
  std::vector<std::shared_ptr<const SpannedSets>> sets_;
  std::vector<VolumeClaim> claims_;
  std::size_t folders_ = 0;
};

MachinesFound find_all(const Address& address, const MachineSearch& wanted,
                       const Session& session) {
  Search search(wanted, session.options().host.get(), session);
  std::error_code error;
  const bool of_host = address.steps.empty() && std::filesystem::is_directory(address.first, error);
  if (of_host) {
    search.folder({session.open_folder(address), address.first, {}}, 0);
    return search.finish();
  }
  if (const auto archive = address.steps.empty() ? session.open_folder(address) : nullptr) {
    search.folder({archive, {}, {}}, 0);
    return search.finish();
  }
  const Target target = session.open(address);
  if (target.entry && target.entry->kind == EntryKind::folder) {
    search.volume(target);
    return search.finish();
  }
  const Target opened = target.volume ? target : session.open_disk(address);
  if (opened.volume) {
    search.volume(session.open_volume(address));
    return search.finish();
  }
  const auto sets = session.spanned_sets(opened.disk().address, opened.disks);
  bool any = !sets->sets.empty();
  if (any) search.spanned(sets);
  for (const VolumePtr& volume : opened.disk().volumes.all()) {
    if (!volume->file_system()) continue;
    if (any) search.claims_on(volume);
    any = true;
    Target one = opened;
    one.volume = volume;
    search.volume(one);
  }
  if (!any)
    throw Error(ErrorCode::cannot_read, address.print(), std::nullopt,
                "has no file system that can be read", {Do::survey, " shows what is there"});
  return search.finish();
}

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

MachinesFound find_machines(const std::shared_ptr<const Neighbours>& folder,
                            const std::string& host_path, const Host& host,
                            const Session& session) {
  if (!folder)
    throw Error(ErrorCode::usage, host_path, std::nullopt, "no folder is given",
                "open one with Session::open_folder");
  Search search({false, 0}, &host, session);
  search.folder({folder, host_path, {}}, 0);
  return search.finish();
}

MachinesFound find_machines(const Address& address, const MachineSearch& wanted,
                            const Session& session) {
  // Whether a disk that a machine names is there is known once all of it was looked at.
  Context own = session.context();
  own.findings = std::make_shared<FindingSink>();
  MachinesFound found = find_all(address, wanted, session.with(own));
  std::set<std::string> complete;
  for (const Machine& machine : found.machines)
    if (machine.complete()) complete.insert(machine.config);
  for (Finding& finding : own.findings->all()) {
    const bool settled = (finding.code == FindingCode::machine_disk_missing ||
                          finding.code == FindingCode::machine_incomplete) &&
                         complete.contains(finding.address);
    if (!settled) session.context().findings->add(std::move(finding));
  }
  return found;
}

}  // namespace lantern
