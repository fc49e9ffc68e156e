// Checks the content of a file on a thread of its own while the file is copied.
// Thread-safety: belongs to the thread that made it.
#pragma once

#include <condition_variable>
#include <exception>
#include <mutex>
#include <optional>
#include <thread>
#include <utility>

#include "lantern/nest/target.h"
#include "lantern/recover/content_check.h"

namespace lantern {

class CheckThread {
 public:
  explicit CheckThread(const Context& context) : context_(context) {}
  ~CheckThread();
  CheckThread(const CheckThread&) = delete;
  CheckThread& operator=(const CheckThread&) = delete;

  // Begins with a file of the target's volume; what was begun before is waited for.
  void start(const Target& target, const Entry& entry);
  // Waits. Nothing is known where nothing was begun. Throws what the check threw.
  ContentCheck finish();

 private:
  struct Work {
    Target target;
    Entry entry;
  };

  void run();

  Context context_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::optional<Work> work_;
  bool busy_ = false, ended_ = false;
  ContentCheck result_;
  std::exception_ptr failed_;
  std::thread worker_;
};

}  // namespace lantern
