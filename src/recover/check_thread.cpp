#include "recover/check_thread.h"

namespace lantern {

CheckThread::~CheckThread() {
  {
    const std::lock_guard lock(mutex_);
    ended_ = true;
  }
  changed_.notify_all();
  if (worker_.joinable()) worker_.join();
}

void CheckThread::start(const Target& target, const Entry& entry) {
  // Most files are of no kind that is checked: they are not worth a word to the other thread.
  if (!is_checked(target, entry)) return;
  std::unique_lock lock(mutex_);
  if (!worker_.joinable()) worker_ = std::thread([this] { run(); });
  changed_.wait(lock, [&] { return !busy_; });
  work_ = Work{target, entry};
  busy_ = true;
  result_ = {};
  failed_ = nullptr;
  lock.unlock();
  changed_.notify_all();
}

ContentCheck CheckThread::finish() {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return !busy_; });
  if (failed_) std::rethrow_exception(std::exchange(failed_, nullptr));
  return std::exchange(result_, {});
}

void CheckThread::run() {
  for (;;) {
    std::optional<Work> work;
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return ended_ || work_; });
      if (ended_) return;
      work = std::exchange(work_, std::nullopt);
    }
    ContentCheck result;
    std::exception_ptr failed;
    try {
      result = check_entry(work->target, work->entry, context_);
    } catch (...) {
      failed = std::current_exception();
    }
    {
      const std::lock_guard lock(mutex_);
      result_ = std::move(result);
      failed_ = failed;
      busy_ = false;
    }
    changed_.notify_all();
  }
}

}  // namespace lantern
