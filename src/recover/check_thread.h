// Checks contents of files on a thread of its own, in the order they are given, while others are
// copied.
// Thread-safety: belongs to the thread that made it.
#pragma once

#include <condition_variable>
#include <deque>
#include <exception>
#include <memory>
#include <mutex>
#include <thread>

#include "lantern/nest/target.h"
#include "lantern/recover/content_check.h"

namespace lantern {

class CheckThread {
 public:
  // A check that was asked for; empty: nothing can be told of that content.
  class Ticket;
  using TicketPtr = std::shared_ptr<Ticket>;

  explicit CheckThread(const Context& context) : context_(context) {}
  ~CheckThread();
  CheckThread(const CheckThread&) = delete;
  CheckThread& operator=(const CheckThread&) = delete;

  // A file of the target's volume; `bytes`: its content.
  TicketPtr start(const Target& target, const Entry& entry, const SourcePtr& bytes);
  // Waits. Throws what the check threw.
  ContentCheck result(const TicketPtr& ticket);

 private:
  void run();

  Context context_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<TicketPtr> waiting_;
  bool ended_ = false;
  std::thread worker_;
};

}  // namespace lantern
