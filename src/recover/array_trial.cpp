#include "lantern/recover/array_trial.h"

#include "lantern/error.h"
#include "lantern/recover/content_check.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxCounted = 200'000;
constexpr std::uint64_t kMaxChecked = 400;
constexpr std::uint64_t kMaxCheckedBytes = 256u << 20;

bool is_all_there(const ByteSource& content) {
  bool there = true;
  content.extents({0, content.size()}, [&](const Extent& extent) {
    there = there && extent.kind != ExtentKind::unreadable;
    return there;
  });
  return there;
}

std::string path_of(const Entry& entry) {
  std::string path;
  for (const std::string& name : entry.path) path += "/" + name;
  return path;
}

void look_at(const Target& target, ArrayTrial& trial, const Context& context) {
  EntryChecker checker(target, context);
  std::uint64_t looked_bytes = 0;
  target.file_system().walk({}, [&](const Entry& entry) {
    context.check_cancelled();
    ++(entry.kind == EntryKind::folder ? trial.folders : trial.files);
    trial.counted_all = trial.files + trial.folders < kMaxCounted;
    const bool enough = trial.whole + trial.broken >= kMaxChecked ||
                        looked_bytes + entry.size_bytes > kMaxCheckedBytes;
    if (entry.kind == EntryKind::file && entry.size_bytes > 0 && !enough) {
      const SourcePtr content = target.file_system().open(entry).bytes;
      if (is_all_there(*content) && is_checked(*content, entry.path.back())) {
        looked_bytes += entry.size_bytes;
        const ContentCheck check = checker.check(entry);
        const bool holds = check.verified || check.structure == StructureState::complete;
        const bool known = holds || check.structure != StructureState::unknown;
        trial.whole += holds ? 1 : 0;
        if (known && !holds && trial.broken++ == 0)
          trial.first_broken = path_of(entry) + ": " + check.why;
      }
    }
    return trial.counted_all ? WalkStep::go_on : WalkStep::stop;
  });
}

}  // namespace

std::vector<ArrayTrial> try_array(const VolumePtr& array, const Session& session) {
  std::vector<ArrayTrial> trials;
  const auto add = [&](const Target& target) {
    const VolumeLayer& volume = target.volume_layer();
    ArrayTrial trial;
    trial.address = volume.address.print();
    trial.content = content_of(volume);
    if (const auto files = volume.file_system()) {
      trial.file_system = files->facts().type;
      trial.label = files->facts().label;
      look_at(target, trial, session.context());
    }
    trials.push_back(std::move(trial));
  };
  const DiskPtr disk = session.open_bytes(array->content(), array->address, {}, {array});
  for (const VolumePtr& volume : disk->volumes.all()) {
    Target target;
    target.disks = {disk};
    target.volume = volume;
    add(target);
  }
  for (const Target& target : spanned_targets(session.spanned_sets(disk->address, {disk}), session))
    add(target);
  return trials;
}

}  // namespace lantern
