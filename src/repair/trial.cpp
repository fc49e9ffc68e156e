#include "repair/trial.h"

#include <fmt/format.h>

#include <filesystem>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/writable_source.h"

namespace lantern {
namespace {

bool exists(const std::string& path) {
  std::error_code error;
  return std::filesystem::exists(std::filesystem::symlink_status(path, error));
}

}  // namespace

Context Trial::fresh() const {
  Context context = context_;
  context.findings = std::make_shared<FindingSink>();
  // Nothing is cached: what was written is read at once.
  context.cache = std::make_shared<BlockCache>(0);
  context.scratch = scratch_;
  return context;
}

Target Trial::open() const {
  return open_disk_target(source_, options_, fresh());
}

SourcePtr Trial::file() const {
  if (source_.steps.empty()) return open_file_source(source_.first, fresh());
  return open().disks.back().file;
}

SourcePtr Trial::layer(const std::string& address) const {
  Address parsed = Address::parse(address, exists);
  const bool as_it_lies = !parsed.steps.empty() && parsed.steps.back().kind == Step::Kind::bytes;
  if (as_it_lies && parsed.steps.size() == 1) return open_file_source(parsed.first, fresh());
  const Target target = open_disk_target(parsed, options_, fresh());
  if (target.bytes) return target.bytes;
  if (target.volume) return target.volume_view().bytes;
  return target.disks.back().container.flat;
}

void Trial::fill_before(RepairStep& step) const {
  for (PlannedWrite& write : step.writes) {
    write.before.assign(write.after.size(), std::byte{0});
    write.before.resize(layer(write.address)->read(write.offset_bytes, write.before).length);
  }
}

void Trial::write(const RepairStep& step) const {
  scratch_->begin_step(step.code);
  for (const PlannedWrite& write : step.writes) {
    const SourcePtr target = layer(write.address);
    std::vector<std::byte> now(write.after.size());
    now.resize(target->read(write.offset_bytes, now).length);
    if (now == write.after) continue;
    if (now != write.before)
      throw Error(ErrorCode::usage, write.address, write.offset_bytes,
                  fmt::format("step {} expects other bytes here", step.number),
                  "it rests on an earlier step that was left out, or the disk has changed: plan "
                  "again");
    write_through(target, write.offset_bytes, write.after);
    // The next write may not pass this one.
    scratch_->flush();
  }
  for (const PlannedWrite& write : step.writes) {
    std::vector<std::byte> now(write.after.size());
    now.resize(layer(write.address)->read(write.offset_bytes, now).length);
    if (now != write.after)
      throw Error(ErrorCode::cannot_write, write.address, write.offset_bytes,
                  "what was laid here does not read back", "make a copy with lantern image first");
  }
}

}  // namespace lantern
