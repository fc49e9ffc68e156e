#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <set>

#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/trial.h"

namespace lantern {
namespace {

constexpr std::size_t kMostRounds = 6;
// Bytes that are read to find volumes without being asked to: seconds.
constexpr std::uint64_t kQuicklyRead = 1u << 30;
constexpr std::size_t kMostLeft = 6;             // findings told
constexpr std::uint64_t kMostCounted = 200'000;  // entries of one volume

class Planner {
 public:
  Planner(const Address& source, const PlanOptions& how, const OpenOptions& options,
          const Context& context)
      : how_(how),
        trial_(source, options, Scratch::in_memory(context.clock->now_seconds(), context.scratch),
               context),
        context_(context) {}

  RepairPlan run() {
    plan_.source = trial_.source().print();
    Address first;
    first.first = trial_.source().first;
    plan_.identity = identify(*open_file_source(first.first, context_));
    plan_.before = reach(true);
    containers();
    // A volume put right may tell more about the table, and the other way round.
    for (std::size_t round = 0; round < kMostRounds; ++round) {
      const std::size_t had = plan_.steps.size();
      tables();
      volumes();
      if (plan_.steps.size() == had) break;
    }
    plan_.after = plan_.steps.empty() ? plan_.before : reach(false);
    what_is_left();
    return std::move(plan_);
  }

 private:
  // What a hurt container throws is told by the step that mends it, or at the end.
  Reach reach(bool first) {
    Reach reach;
    try {
      const Target target = trial_.open();
      const DiskView& disk = target.disks.back();
      if (first)
        for (const VolumeRow& row : disk.table.rows) rows_before_.insert(row.range.offset);
      for (const VolumeView& volume : disk.volumes) {
        if (!volume.file_system) continue;
        if (target.volume && &volume != &target.volume_view()) continue;
        ++reach.volumes;
        std::uint64_t seen = 0;
        volume.file_system->walk({}, [&](const Entry& entry) {
          ++(entry.kind == EntryKind::folder ? reach.folders : reach.files);
          return ++seen < kMostCounted ? WalkStep::go_on : WalkStep::stop;
        });
      }
    } catch (const Error& error) {
      if (error.code() != ErrorCode::cannot_read && error.code() != ErrorCode::unsupported) throw;
    }
    return reach;
  }

  // Damage that no step mends is not passed over in silence.
  void what_is_left() {
    const Context context = trial_.fresh();
    try {
      open_disk_target(trial_.source(), trial_.options(), context);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
      plan_.notes.emplace_back(error.what());
    }
    std::size_t told = 0;
    for (const Finding& finding : context.findings->all()) {
      if (finding.severity != Severity::damage) continue;
      if (++told > kMostLeft) break;
      plan_.notes.push_back(finding.address + ": " + finding.message);
    }
    if (told > kMostLeft) plan_.notes.emplace_back("and more: lantern survey lists all of it");
  }

  void containers() {
    if (!trial_.source().steps.empty() && trial_.source().steps.back().kind == Step::Kind::volume)
      return;
    for (std::size_t round = 0; round < kMostRounds; ++round) {
      Diagnosis diagnosis;
      diagnose_container(trial_.source(), trial_.file(), diagnosis, trial_.fresh());
      if (!take(diagnosis, Certainty::certain)) return;
    }
  }

  void tables() {
    const Target target = trial_.open();
    if (target.volume) return;
    const DiskView& disk = target.disks.back();
    const bool whole = disk.table.scheme == VolumeTable::Scheme::none && !disk.volumes.empty() &&
                       disk.volumes.front().file_system;
    if (whole || disk.container.flat->size() < 1024) return;
    VolumeSearchOptions usual;
    usual.usual_places_only = !how_.every_sector;
    usual.every_sector = how_.every_sector;
    VolumeSearch found = search_volumes(disk.container.flat, disk.table, usual, trial_.fresh());
    if (usual.usual_places_only && !explained(disk, found)) {
      if (found.unexplained <= kQuicklyRead) {
        usual = {};
        found = search_volumes(disk.container.flat, disk.table, usual, trial_.fresh());
      } else {
        plan_.notes.push_back(
            "volumes may lie where they usually do not: --every-sector reads all of the disk");
      }
    }
    Diagnosis diagnosis;
    if (has_gpt(disk) || asks_for_gpt(disk, found))
      diagnose_gpt(disk, found, diagnosis, trial_.fresh());
    else
      diagnose_mbr(disk, found, diagnosis, trial_.fresh());
    take(diagnosis, Certainty::certain);
  }

  // Whether the table leads to something wherever it leads, or the volumes found are all there is.
  static bool explained(const DiskView& disk, const VolumeSearch& found) {
    if (found.unexplained == 0) return true;
    if (disk.table.scheme == VolumeTable::Scheme::none) return false;
    return std::all_of(disk.volumes.begin(), disk.volumes.end(), [](const VolumeView& v) {
      // Of kinds that are not read here nothing can be said.
      const bool known_kind = v.row.type.find("FAT") != std::string::npos ||
                              v.row.type.find("NTFS") != std::string::npos ||
                              v.row.type.starts_with("Linux") || v.row.type == "basic data";
      return v.file_system || v.row.system || !known_kind ||
             (!v.recognised.empty() && !v.recognised.starts_with("its start"));
    });
  }

  void volumes() {
    const Target target = trial_.open();
    const DiskView& disk = target.disks.back();
    for (std::size_t i = 0; i < disk.volumes.size(); ++i) {
      if (target.volume && *target.volume != i) continue;
      const VolumeView& volume = disk.volumes[i];
      // Encrypted ones are left alone: what would mend them would harm them.
      if (!volume.key_wanted.empty()) continue;
      Diagnosis diagnosis;
      diagnose_volume(disk, volume, diagnosis);
      // What a proposed entry leads to is no more certain than the entry.
      const bool known = rows_before_.contains(volume.row.range.offset) ||
                         disk.table.scheme == VolumeTable::Scheme::none;
      take(diagnosis, known ? Certainty::certain : weakest_);
    }
  }

  void diagnose_volume(const DiskView& disk, const VolumeView& volume, Diagnosis& diagnosis) {
    const std::string type = volume.file_system ? volume.file_system->facts().type : "";
    using Diagnose = void (*)(const DiskView&, const VolumeView&, Diagnosis&, const Context&);
    for (const auto& [kind, diagnose] : {std::pair<std::string, Diagnose>{"ext", diagnose_ext},
                                         {"ntfs", diagnose_ntfs},
                                         {"exfat", diagnose_exfat},
                                         {"fat", diagnose_fat}}) {
      if (!type.empty() && !type.starts_with(kind)) continue;
      diagnose(disk, volume, diagnosis, trial_.fresh());
      if (!diagnosis.steps.empty()) return;
    }
  }

  // Lays the steps over the disk. False: there is none that is new.
  bool take(Diagnosis& diagnosis, Certainty most) {
    for (std::string& note : diagnosis.notes)
      if (std::find(plan_.notes.begin(), plan_.notes.end(), note) == plan_.notes.end())
        plan_.notes.push_back(std::move(note));
    bool any = false;
    for (RepairStep& step : diagnosis.steps) {
      if (step.writes.empty() || !seen_.insert(step.code + step.what).second) continue;
      step.certainty = std::max(step.certainty, most);
      step.number = plan_.steps.size() + 1;
      try {
        trial_.fill_before(step);
        trial_.write(step);
      } catch (const Error& error) {
        if (error.code() != ErrorCode::unsupported && error.code() != ErrorCode::cannot_write)
          throw;
        plan_.notes.push_back(fmt::format("{}: cannot be written: {}", step.what, error.what()));
        continue;
      }
      weakest_ = std::max(weakest_, step.certainty);
      plan_.steps.push_back(std::move(step));
      any = true;
    }
    return any;
  }

  PlanOptions how_;
  Trial trial_;
  const Context& context_;
  RepairPlan plan_;
  std::set<std::string> seen_;
  std::set<std::uint64_t> rows_before_;
  Certainty weakest_ = Certainty::certain;
};

}  // namespace

std::string_view to_string(Certainty certainty) {
  switch (certainty) {
    case Certainty::certain:
      return "certain";
    case Certainty::likely:
      return "likely";
    case Certainty::possible:
      return "possible";
  }
  return "";
}

std::vector<std::size_t> certain_steps(const RepairPlan& plan) {
  std::vector<std::size_t> numbers;
  for (const RepairStep& step : plan.steps)
    if (step.certainty == Certainty::certain) numbers.push_back(step.number);
  return numbers;
}

RepairPlan plan_repair(const Address& source, const PlanOptions& how, const OpenOptions& options,
                       const Context& context) {
  return Planner(source, how, options, context).run();
}

RepairPlan plan_bytes(const Address& source, std::uint64_t offset,
                      const std::vector<std::byte>& bytes, const OpenOptions& options,
                      const Context& context) {
  const Trial trial(source, options,
                    Scratch::in_memory(context.clock->now_seconds(), context.scratch), context);
  RepairPlan plan;
  plan.source = source.print();
  plan.identity = identify(*open_file_source(source.first, context));
  RepairStep step;
  step.number = 1;
  step.code = "by-hand.bytes";
  step.certainty = Certainty::certain;
  step.what = fmt::format("{} at byte {}", counted(bytes.size(), "byte"), offset);
  step.evidence = "by hand";
  step.writes.push_back({source.print(), offset, {}, bytes});
  const std::uint64_t size = trial.layer(source.print())->size();
  if (bytes.empty() || offset >= size || bytes.size() > size - offset)
    throw Error(ErrorCode::usage, source.print(), offset,
                fmt::format("{} bytes do not lie here: there are {}", bytes.size(), size),
                "lantern survey shows the sizes");
  trial.fill_before(step);
  trial.write(step);
  plan.steps.push_back(std::move(step));
  return plan;
}

}  // namespace lantern
