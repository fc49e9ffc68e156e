#include "physical/reading/timed_reads.h"

#include <fmt/format.h>

#include <algorithm>
#include <condition_variable>
#include <exception>
#include <mutex>
#include <thread>

#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::chrono::milliseconds kBetweenLooks{200};  // whether the work was cancelled
constexpr std::size_t kMaxAbandoned = 8;                 // reads without an answer at one time

}  // namespace

struct TimedReads::Worker {
  explicit Worker(SourcePtr source) : disk(std::move(source)) {}

  void work() {
    std::unique_lock lock(mutex);
    for (;;) {
      asked.wait(lock, [&] { return busy || ended; });
      if (ended) return;
      lock.unlock();
      try {
        result = disk->read_until_trouble(range.offset, bytes);
      } catch (...) {
        thrown = std::current_exception();
      }
      lock.lock();
      busy = false;
      answered.notify_all();
      if (ended) return;
    }
  }

  SourcePtr disk;
  std::mutex mutex;
  std::condition_variable asked, answered;
  bool busy = false, ended = false;
  Range range;
  Bytes bytes;  // the worker's alone while it is busy
  ReadResult result;
  std::exception_ptr thrown;
};

TimedReads::TimedReads(SourcePtr disk, std::chrono::milliseconds give_up, const Context& context)
    : disk_(std::move(disk)), give_up_(give_up), context_(context) {}

TimedReads::~TimedReads() {
  if (!worker_) return;
  const std::lock_guard lock(worker_->mutex);
  worker_->ended = true;
  worker_->asked.notify_all();
}

TimedReads::Answer TimedReads::read(Range range) {
  std::erase_if(abandoned_, [](const auto& each) { return each.expired(); });
  if (abandoned_.size() >= kMaxAbandoned)
    throw Error(ErrorCode::stopped, {}, range.offset,
                fmt::format("the disk does not answer: {} reads were given up and hang still",
                            abandoned_.size()),
                "switch it off and on again; the same command goes on");
  if (!worker_) {
    worker_ = std::make_shared<Worker>(disk_);
    // It may outlive this: a read that hangs cannot be ended.
    std::thread([worker = worker_] { worker->work(); }).detach();
  }
  const auto began = std::chrono::steady_clock::now();
  std::unique_lock lock(worker_->mutex);
  worker_->range = range;
  worker_->bytes.resize(static_cast<std::size_t>(range.length));
  worker_->thrown = nullptr;
  worker_->busy = true;
  worker_->asked.notify_all();
  Answer answer;
  const auto is_done = [&] { return !worker_->busy; };
  const auto until = began + give_up_;
  bool came = false;
  do {
    context_.check_cancelled();
    came = worker_->answered.wait_until(
        lock, std::min(until, std::chrono::steady_clock::now() + kBetweenLooks), is_done);
  } while (!came && std::chrono::steady_clock::now() < until);
  answer.took = std::chrono::steady_clock::now() - began;
  if (!came) {
    worker_->ended = true;
    lock.unlock();
    abandoned_.push_back(worker_);
    worker_.reset();
    answer.given_up = true;
    return answer;
  }
  if (worker_->thrown) std::rethrow_exception(worker_->thrown);
  const ReadResult& got = worker_->result;
  const std::uint64_t good =
      got.unreadable.empty() ? got.length : got.unreadable.front().offset - range.offset;
  answer.good = ByteView(worker_->bytes).first(static_cast<std::size_t>(good));
  return answer;
}

}  // namespace lantern
