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

using Steady = std::chrono::steady_clock;

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
      ended_at = Steady::now();
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
  Steady::time_point began, ended_at;
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

void TimedReads::begin(Range range) {
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
  const std::lock_guard lock(worker_->mutex);
  worker_->range = range;
  worker_->bytes.resize(static_cast<std::size_t>(range.length));
  worker_->thrown = nullptr;
  worker_->began = Steady::now();
  worker_->busy = true;
  worker_->asked.notify_all();
  begun_ = range;
}

// False: it did not answer in time.
bool TimedReads::wait() {
  std::unique_lock lock(worker_->mutex);
  const auto until = worker_->began + give_up_;
  while (worker_->busy) {
    if (Steady::now() >= until) return false;
    context_.check_cancelled();
    worker_->answered.wait_until(lock, std::min(until, Steady::now() + kBetweenLooks));
  }
  return true;
}

TimedReads::Answer TimedReads::read(Range range) {
  // What was begun and is not wanted any more comes first: the disk is at it.
  const bool is_begun = begun_ == range;
  if (begun_ && !is_begun && !wait()) abandon();
  if (!is_begun) begin(range);
  begun_.reset();
  Answer answer;
  if (!wait()) {
    answer.took = Steady::now() - worker_->began;
    answer.given_up = true;
    abandon();
    return answer;
  }
  answer.took = worker_->ended_at - worker_->began;
  if (worker_->thrown) std::rethrow_exception(worker_->thrown);
  const ReadResult& got = worker_->result;
  const std::uint64_t good =
      got.unreadable.empty() ? got.length : got.unreadable.front().offset - range.offset;
  std::swap(answered_, worker_->bytes);
  answer.good = ByteView(answered_).first(static_cast<std::size_t>(good));
  return answer;
}

void TimedReads::abandon() {
  {
    const std::lock_guard lock(worker_->mutex);
    worker_->ended = true;
  }
  abandoned_.push_back(worker_);
  worker_.reset();
}

}  // namespace lantern
