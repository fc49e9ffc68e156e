#include "recover/check_thread.h"

namespace lantern {

class CheckThread::Ticket {
 public:
  Ticket(Target its_target, Entry its_entry, SourcePtr its_bytes)
      : target(std::move(its_target)), entry(std::move(its_entry)), bytes(std::move(its_bytes)) {}

  Target target;
  Entry entry;
  SourcePtr bytes;
  bool done = false;
  ContentCheck result;
  std::exception_ptr failed;
};

CheckThread::~CheckThread() {
  {
    const std::lock_guard lock(mutex_);
    ended_ = true;
  }
  changed_.notify_all();
  if (worker_.joinable()) worker_.join();
}

CheckThread::TicketPtr CheckThread::start(const Target& target, const Entry& entry,
                                          const SourcePtr& bytes) {
  // Most files are of no kind that is checked: they are not worth a word to the other thread.
  if (!is_checked(*bytes, entry.path.back())) return nullptr;
  auto ticket = std::make_shared<Ticket>(target, entry, bytes);
  if (!worker_.joinable()) worker_ = std::thread([this] { run(); });
  {
    const std::lock_guard lock(mutex_);
    waiting_.push_back(ticket);
  }
  changed_.notify_all();
  return ticket;
}

ContentCheck CheckThread::result(const TicketPtr& ticket) {
  if (!ticket) return {};
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return ticket->done; });
  if (ticket->failed) std::rethrow_exception(ticket->failed);
  return ticket->result;
}

void CheckThread::run() {
  for (;;) {
    TicketPtr ticket;
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return ended_ || !waiting_.empty(); });
      if (ended_) return;
      ticket = waiting_.front();
      waiting_.pop_front();
    }
    ContentCheck result;
    std::exception_ptr failed;
    try {
      result = check_entry(ticket->target, ticket->entry, ticket->bytes, context_);
    } catch (...) {
      failed = std::current_exception();
    }
    {
      const std::lock_guard lock(mutex_);
      ticket->result = std::move(result);
      ticket->failed = failed;
      ticket->done = true;
    }
    changed_.notify_all();
  }
}

}  // namespace lantern
