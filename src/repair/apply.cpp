#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/imaging.h"
#include "lantern/repair.h"
#include "repair/guards.h"
#include "repair/journal.h"
#include "repair/trial.h"

namespace lantern {
namespace {

Address address_of(const std::string& text) {
  return Address::parse(text, [](const std::string& path) {
    std::error_code error;
    return std::filesystem::exists(std::filesystem::symlink_status(path, error));
  });
}

}  // namespace

void try_repair(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                const OpenOptions& options, const std::shared_ptr<Scratch>& scratch,
                const Context& context) {
  const Address source = address_of(plan.source);
  const Identity now = identify(*open_file_source(source.first, context));
  if (compare(plan.identity, now) != Sameness::same)
    throw Error(ErrorCode::refused, plan.source, std::nullopt,
                compare(plan.identity, now) == Sameness::other
                    ? "is another disk than the plan was made for"
                    : "has changed since the plan was made",
                "plan again: lantern repair without --plan");
  for (const std::size_t number : steps)
    if (number == 0 || number > plan.steps.size())
      throw Error(ErrorCode::usage, plan.source, std::nullopt,
                  fmt::format("there is no step {}", number),
                  "lantern repair without --apply lists them");
  const Trial trial(source, options, scratch, context);
  for (const RepairStep& step : plan.steps) {
    if (std::find(steps.begin(), steps.end(), step.number) == steps.end()) continue;
    context.check_cancelled();
    trial.write(step);
  }
}

ApplyResult apply_repair(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                         const OpenOptions& options, const ApplyOptions& how,
                         const Context& context) {
  const auto scratch = Scratch::in_memory(context.clock->now_seconds());
  try_repair(plan, steps, options, scratch, context);
  ApplyResult result;
  if (scratch->log().writes().empty()) return result;
  check_guards(plan, steps, scratch->log(), options, how, context);
  const Media media = open_media(scratch->log(), how);
  const auto journal = keep_journal(scratch->log(), how.journal, context);
  try {
    make_writes(*journal, media, context);
  } catch (const Error& error) {
    throw Error(ErrorCode::cannot_write, error.address(), error.offset(),
                std::string("the repair stopped half way: ") + error.what(),
                fmt::format("lantern undo {} takes back what was written", how.journal));
  }
  result.journal = how.journal;
  result.applied = steps;
  for (const WriteLog::Write& write : journal->writes()) result.bytes_written += write.length;
  return result;
}

ApplyResult repair_into(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                        const std::string& child, const OpenOptions& options,
                        const Context& context) {
  // It has to go through on the original first, in memory.
  try_repair(plan, steps, options,
             Scratch::in_memory(context.clock->now_seconds(), context.scratch), context);
  const Address source = address_of(plan.source);
  const Target original = open_disk_target(source, options, context);
  const DiskView& disk = original.disks.back();
  const std::string of_disk = disk.address.print();
  RepairPlan of_child = plan;
  for (RepairStep& step : of_child.steps) {
    if (std::find(steps.begin(), steps.end(), step.number) == steps.end()) continue;
    for (PlannedWrite& write : step.writes) {
      if (write.address != of_disk)
        throw Error(ErrorCode::unsupported, write.address, write.offset_bytes,
                    fmt::format("step {} mends the image file itself: a child of it would not help",
                                step.number),
                    "lantern image --as qcow2 makes a copy that is whole; or use --scratch");
      write.address = child;
    }
  }
  write_image(disk.container.flat, child, child_of(disk.address, disk.container.format, child),
              context);
  of_child.source = child;
  of_child.identity = identify(*open_file_source(child, context));
  const auto scratch = Scratch::in_memory(context.clock->now_seconds());
  try_repair(of_child, steps, options, scratch, context);
  // The child is ours and new: there is nothing to take back.
  make_writes(scratch->log(), open_media(scratch->log(), {}), context);
  ApplyResult result;
  result.applied = steps;
  for (const WriteLog::Write& write : scratch->log().writes()) result.bytes_written += write.length;
  return result;
}

}  // namespace lantern
