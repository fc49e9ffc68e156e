#include "repair/apply/guards.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "host/lock_files.h"
#include "lantern/error.h"
#include "lantern/machines.h"
#include "lantern/text.h"
#include "repair/apply/trial_image.h"
#include "repair/facets.h"

namespace lantern::repair {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMaxNeighbours = 2000;

std::string full_path(const std::string& path) {
  std::error_code error;
  const fs::path canonical = fs::weakly_canonical(path, error);
  return error ? path : canonical.string();
}

class Guards {
 public:
  Guards(const GuardedWrites& guarded, const Session& session, const ApplyOptions& how)
      : guarded_(guarded), how_(how), session_(as_it_lies(session)), context_(session_.context()) {}

  Beside check() {
    for (const WriteLog::File& file : guarded_.writes.files()) {
      journal_elsewhere(file.path);
      if (how_.host) users(file.path);
      if (!how_.override_lock_file) lock_files_of(file.path);
      machines(file.path);
      children(file.path);
    }
    file_systems();
    return std::move(beside_);
  }

 private:
  // Without what is laid over it, and telling nobody.
  static Session as_it_lies(const Session& session) {
    Context context = session.context();
    context.findings = std::make_shared<FindingSink>();
    context.scratch = nullptr;
    return session.with(std::move(context));
  }

  [[noreturn]] static void refuse(const std::string& where, const std::string& what,
                                  const Advice& next) {
    throw Error(ErrorCode::refused, where, std::nullopt, what, next);
  }

  void journal_elsewhere(const std::string& path) {
    const std::string folder = fs::absolute(how_.journal).parent_path().string();
    if (full_path(how_.journal) == path)
      refuse(path, "cannot be its own journal", {"name another file with ", Do::journal});
    if (!how_.host) return;
    const auto source = how_.host->file(path);
    // An image may lie beside its journal; a device must not hold it.
    if (!source || !source->block_device) {
      const auto place = how_.host->file(folder);
      if (const auto backing = place ? how_.host->loop_file(place->device) : std::nullopt;
          !backing || full_path(*backing) != path)
        return;
      refuse(how_.journal, "would be inside the disk that is repaired",
             {"name a place on another disk with ", Do::journal});
    }
    if (const std::string why = why_destination_is_unsafe(*how_.host, path, folder); !why.empty())
      refuse(how_.journal, "would be inside what is repaired: " + why,
             {"name a place on another disk with ", Do::journal});
  }

  void users(const std::string& path) {
    const std::vector<std::string> uses = how_.host->uses_of(path);
    if (!uses.empty())
      refuse(path, "is in use: " + uses.front(),
             {"let go of it there first, or repair a copy: ", Do::scratch, ", ", Do::child});
    for (const Holder& holder : how_.host->holders(path))
      if (holder.writing)
        refuse(path,
               fmt::format("is held open for writing by {} (process {})", for_terminal(holder.name),
                           holder.process),
               "end it, or switch the machine off, and run the command again");
    if (const auto lock = how_.host->lock_on(path))
      refuse(path, "is locked by " + *lock, "switch the machine off, and run the command again");
  }

  // Written by this computer or by another that shares the folder.
  void lock_files_of(const std::string& path) {
    std::error_code error;
    if (!fs::is_regular_file(path, error)) return;
    const fs::path file(path);
    const auto folder = host_neighbours(file.parent_path().string(), context_);
    for (const std::string& lock : lock_files(*folder, file.filename().string(), true, context_))
      refuse(path, "may be held by a machine: " + lock,
             {"switch that machine off; when it is off and the lock is a leftover: ",
              Do::override_lock_file});
  }

  void machines(const std::string& path) {
    const fs::path folder = fs::path(path).parent_path();
    std::error_code error;
    if (!fs::is_regular_file(path, error) || !how_.host) return;
    const MachinesFound found = find_machines(host_neighbours(folder.string(), context_),
                                              folder.string(), *how_.host, session_);
    for (const Machine& machine : found.machines) {
      const bool names =
          std::any_of(machine.disks.begin(), machine.disks.end(), [&](const MachineDisk& disk) {
            if (full_path(disk.address) == path) return true;
            return std::any_of(disk.chain.begin(), disk.chain.end(), [&](const ChainLink& link) {
              return full_path(link.place) == path;
            });
          });
      if (!names) continue;
      const std::string who = fmt::format("the machine \"{}\"", for_terminal(machine.name));
      if (machine.state == MachineState::running &&
          !(machine.by_lock_file && how_.override_lock_file))
        refuse(path, fmt::format("{} runs: {}", who, machine.state_evidence),
               "switch it off, and run the command again");
      if (machine.state == MachineState::suspended && !how_.override_suspended)
        refuse(path, fmt::format("{} is suspended: {}", who, machine.state_evidence),
               {"resume it and shut it down; or write all the same with ", Do::override_suspended});
    }
  }

  // A child holds only what differs from its parent: with another parent it is another disk.
  void children(const std::string& path) {
    std::error_code error;
    if (!fs::is_regular_file(path, error)) return;
    const auto folder = host_neighbours(fs::path(path).parent_path().string(), context_);
    std::size_t seen = 0;
    for (const std::string& name : folder->names()) {
      if (++seen > kMaxNeighbours) return;
      const std::string place = folder->place(name);
      if (full_path(place) == path) continue;
      const auto file = folder->open(name);
      if (!file || (*file)->size() < 512) continue;
      Surroundings around;
      around.name = name;
      around.beside = folder;
      around.opening = {place};
      try {
        for (const ChainLink& link : open_container(*file, around, context_).chain)
          if (!link.missing && full_path(link.place) == path) {
            if (is_unchanged_trial(place, context_)) {
              beside_.trials.push_back(place);
              continue;
            }
            refuse(path,
                   fmt::format("{} is based on it and would no longer fit", for_terminal(place)),
                   "repair the child, or a copy");
          }
      } catch (const Error& failed) {
        if (failed.code() == ErrorCode::refused || failed.code() == ErrorCode::stopped) throw;
      }
    }
  }

  // What the file systems' own logs will write over, and what a hibernated system has in memory.
  void file_systems() {
    const Address source = Address::parse(guarded_.source);
    std::optional<Target> target;
    try {
      target = session_.open_disk(source);
    } catch (const Error& failed) {
      if (failed.code() == ErrorCode::stopped) throw;
      return;  // too damaged to be opened: no hibernated system in it can be known
    }
    const DiskLayer& disk = target->disk();
    for (const VolumeLayer& volume : disk.volumes) {
      if (!volume.file_system()) continue;
      const std::vector<Range> touched = touched_in(disk, volume);
      if (touched.empty()) continue;
      const RepairFacet* const facet = repair_facet(volume.file_system()->facts().format);
      if (facet == nullptr || facet->guard == nullptr) continue;
      if (const auto refusal = facet->guard(volume, touched, context_))
        refuse(volume.address.print(), refusal->why, refusal->next_step);
    }
  }

  std::vector<Range> touched_in(const DiskLayer& disk, const VolumeLayer& volume) const {
    std::vector<Range> touched;
    for (const TouchedLayer& layer : guarded_.layers) {
      if (layer.step == kInPlace) {
        touched.push_back({});  // nothing that a log speaks of: only a hibernated system minds
      } else if (layer.address == volume.address.print()) {
        touched.push_back(layer.range);
      } else if (layer.address == disk.address.print()) {
        const Range part = intersect(layer.range, volume.row.range);
        // Our own repair of these is what a log, written out, would leave, too.
        if (!part.empty() && !layer.step.starts_with("ext."))
          touched.push_back({part.offset - volume.row.range.offset, part.length});
      }
    }
    return touched;
  }

  const GuardedWrites& guarded_;
  const ApplyOptions& how_;
  Session session_;
  const Context& context_;
  Beside beside_;
};

}  // namespace

Beside check_guards(const GuardedWrites& guarded, const Session& session, const ApplyOptions& how) {
  return Guards(guarded, session, how).check();
}

}  // namespace lantern::repair
