#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/imaging.h"
#include "lantern/repair.h"
#include "repair/apply/guards.h"
#include "repair/apply/journal.h"
#include "repair/apply/trial_image.h"
#include "repair/trial.h"
#include "source/laid_writes.h"

namespace lantern::repair {
namespace {

std::vector<TouchedLayer> touched_by(const RepairPlan& plan,
                                     const std::vector<std::size_t>& steps) {
  std::vector<TouchedLayer> touched;
  for (const RepairStep& step : plan.steps)
    if (std::find(steps.begin(), steps.end(), step.number) != steps.end())
      for (const PlannedWrite& write : step.writes)
        touched.push_back({write.address, {write.offset_bytes, write.after.size()}, step.code});
  return touched;
}

}  // namespace

void try_repair(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                const Session& session, const std::shared_ptr<Scratch>& scratch) {
  const Context& context = session.context();
  const Address source = Address::parse(plan.source);
  for (const PlanSource& made_for : plan.sources) {
    const IdentityMatch same =
        compare(made_for.identity, identify(*open_file_source(made_for.path, context)));
    if (same == IdentityMatch::same) continue;
    throw Error(ErrorCode::refused, made_for.path, std::nullopt,
                same == IdentityMatch::other ? "is another disk than the plan was made for"
                                             : "has changed since the plan was made",
                {"plan again: ", Do::plan_again});
  }
  for (const std::size_t number : steps)
    if (number == 0 || number > plan.steps.size())
      throw Error(ErrorCode::usage, plan.source, std::nullopt,
                  fmt::format("there is no step {}", number), {Do::plan, " lists them"});
  const Trial trial(source, session, scratch);
  for (const RepairStep& step : plan.steps) {
    if (std::find(steps.begin(), steps.end(), step.number) == steps.end()) continue;
    context.check_cancelled();
    trial.write(step);
  }
}

namespace {

// After the next start the system may call another disk what it calls this one now.
void need_lasting_name(const RepairPlan& plan, const WriteLog& log, const ApplyOptions& how,
                       const Context& context) {
  if (!how.host || plan.source.starts_with("disk:") || plan.source.starts_with("/dev/disk/by-"))
    return;
  for (const WriteLog::File& file : log.files()) {
    const auto place = how.host->file(file.path);
    if (!place || !place->block_device) continue;
    Advice next("name the disk by what lasts");
    for (const NamedDisk& disk : name_disks(*how.host, context))
      if (disk.facts.device == file.path)
        next = {"name it by what lasts: ", Action{Do::plan, {"disk:" + disk.name}}};
    throw Error(ErrorCode::refused, file.path, std::nullopt,
                "is not written to under a name that another disk may have tomorrow", next);
  }
}

}  // namespace

ApplyResult apply_repair(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                         const Session& session, const ApplyOptions& how) {
  const Context& context = session.context();
  const auto scratch = Scratch::in_memory(context.clock->now_seconds());
  try_repair(plan, steps, session, scratch);
  ApplyResult result;
  WriteLog& log = LaidWrites::of(*scratch).log();
  if (log.writes().empty()) return result;
  const GuardedWrites guarded{plan.source, touched_by(plan, steps), log};
  need_lasting_name(plan, log, how, context);
  const Beside beside = check_guards(guarded, session, how);
  const Media media = open_media(log, how);
  const auto journal = keep_journal(log, guarded, how, context);
  try {
    make_writes(*journal, media, context);
  } catch (const Error& error) {
    throw Error(ErrorCode::cannot_write, error.address(), error.offset(),
                std::string("the repair stopped half way: ") + error.what(),
                {Action{Do::undo, {how.journal}}, " takes back what was written"});
  }
  result.journal = how.journal;
  result.applied = steps;
  for (const WriteLog::Write& write : journal->writes()) result.bytes_written += write.length;
  for (const std::string& trial : beside.trials) {
    if (how.drop_trial) delete_trial(trial);
    (how.drop_trial ? result.trials_dropped : result.trials_outdated).push_back(trial);
  }
  return result;
}

namespace {

// An empty child of the disk; nothing of it is left when it cannot be written whole.
void write_child(const DiskLayer& disk, const std::string& child, const Context& context) {
  const ImageOptions how = child_of(disk.address, disk.container.format, child);
  ImageSummary made;
  try {
    made = write_image(disk.container.flat, child, how, context);
  } catch (const Error& error) {
    // Refused: what is there is another's.
    if (error.code() != ErrorCode::refused) delete_trial(child);
    throw;
  }
  if (!made.stopped) return;
  delete_trial(child);
  context.check_cancelled();
  throw Error(ErrorCode::cannot_write, {}, std::nullopt, made.why_stopped);
}

}  // namespace

ApplyResult repair_into(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                        const std::string& child, const Session& session) {
  const Context& context = session.context();
  // It has to go through on the original first, in memory.
  try_repair(plan, steps, session,
             Scratch::in_memory(context.clock->now_seconds(), context.scratch));
  const Address source = Address::parse(plan.source);
  const Target original = session.open_disk(source);
  const DiskLayer& disk = original.disk();
  const std::string of_disk = disk.address.print();
  RepairPlan of_child = plan;
  for (RepairStep& step : of_child.steps) {
    if (std::find(steps.begin(), steps.end(), step.number) == steps.end()) continue;
    for (PlannedWrite& write : step.writes) {
      if (write.address != of_disk)
        throw Error(ErrorCode::unsupported, write.address, write.offset_bytes,
                    fmt::format("step {} repairs the image file itself: a child of it would not "
                                "help",
                                step.number),
                    {Do::image_as_qcow2, " makes a complete copy; or use ", Do::scratch});
      write.address = child;
    }
  }
  const auto scratch = Scratch::in_memory(context.clock->now_seconds());
  WriteLog& log = LaidWrites::of(*scratch).log();
  write_child(disk, child, context);
  try {
    of_child.source = child;
    // It may be in another folder than its parent.
    OpenOptions of_both = session.options();
    of_both.look_in.push_back(
        std::filesystem::absolute(resolved(source).first).parent_path().string());
    of_child.sources.push_back({child, identify(*open_file_source(child, context))});
    try_repair(of_child, steps, Session(of_both, context), scratch);
    // The child is ours and new: there is nothing to take back.
    make_writes(log, open_media(log, {}), context);
    mark_as_trial(child, context);
  } catch (const Error&) {
    delete_trial(child);
    throw;
  }
  ApplyResult result;
  result.applied = steps;
  for (const WriteLog::Write& write : log.writes()) result.bytes_written += write.length;
  return result;
}

}  // namespace lantern::repair
