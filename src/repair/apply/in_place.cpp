#include "repair/apply/in_place.h"

#include <filesystem>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "repair/apply/guards.h"

namespace lantern::repair {

InPlace::InPlace(const Target& target, const Session& session, const ApplyOptions& how)
    : context_(session.context()),
      scratch_(Scratch::in_memory(session.context().clock->now_seconds())) {
  Context bare = context_;
  bare.scratch = nullptr;
  const auto log = WriteLog::in_memory(context_.clock->now_seconds());
  for (const std::string& path : bottom_sources(target)) {
    const Identity identity = identify(*open_file_source(path, bare));
    numbers_[std::filesystem::weakly_canonical(path).string()] =
        log->add_file({std::filesystem::weakly_canonical(path).string(),
                       identity.size_bytes,
                       identity.samples_sha256,
                       {}});
  }
  const DiskLayer& disk = target.disk();
  const std::string address = disk.address.print();
  const GuardedWrites guarded{address, {{address, {0, disk.bytes->size()}, kInPlace}}, *log};
  check_guards(guarded, session, how);
  media_ = open_media(*log, how);
  journal_ = grow_journal(*log, guarded, how, context_);
}

void InPlace::flush() {
  const std::lock_guard lock(mutex_);
  LaidWrites& laid = LaidWrites::of(*scratch_);
  bool any = false;
  laid.each_change([&](const LaidWrites::Change& change) {
    if (change.after == change.before) return;
    journal_->add_write(numbers_.at(change.path), change.offset, false, change.after,
                        change.before);
    any = true;
  });
  if (!any) return;
  journal_->add_mark(WriteLog::Mark::complete, context_.clock->now_seconds());
  laid.each_change([&](const LaidWrites::Change& change) {
    if (change.after != change.before)
      media_[numbers_.at(change.path)]->write(change.offset, change.after);
  });
  for (const auto& medium : media_) medium->flush();
  Context bare = context_;
  bare.scratch = nullptr;
  laid.settle([&](const std::string& path) { return open_file_source(path, bare); });
}

void InPlace::close() {
  flush();
  const std::lock_guard lock(mutex_);
  if (!journal_->writes().empty())
    journal_->add_mark(WriteLog::Mark::applied, context_.clock->now_seconds());
  media_.clear();
}

}  // namespace lantern::repair
