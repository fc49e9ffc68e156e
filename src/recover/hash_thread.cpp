#include "recover/hash_thread.h"

#include <algorithm>

#include "lantern/error.h"

namespace lantern {
namespace {

// Pieces waiting; each holds its memory.
constexpr std::size_t kMaxWaiting = 16;

}  // namespace

HashThread::HashThread(std::shared_ptr<const std::atomic<bool>> cancel)
    : cancel_(std::move(cancel)), worker_([this] { work(); }) {}

HashThread::~HashThread() {
  {
    const std::lock_guard lock(mutex_);
    given_up_ = true;
    ended_ = true;
  }
  changed_.notify_all();
  if (worker_.joinable()) worker_.join();
}

void HashThread::add(std::shared_ptr<const Bytes> bytes, std::size_t length) {
  push({std::move(bytes), length});
}

void HashThread::add_zeros(std::uint64_t count) {
  if (count > 0) push({nullptr, count});
}

std::string HashThread::finish_hex() {
  {
    const std::lock_guard lock(mutex_);
    ended_ = true;
  }
  changed_.notify_all();
  worker_.join();
  if (cancelled()) throw Error(ErrorCode::stopped, {}, std::nullopt, "stopped");
  return hash_.finish_hex();
}

void HashThread::push(Part part) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return parts_.size() < kMaxWaiting; });
  parts_.push_back(std::move(part));
  lock.unlock();
  changed_.notify_all();
}

void HashThread::work() {
  constexpr std::size_t kZeros = 256u << 10;
  const Bytes zeros(kZeros);
  for (;;) {
    Part part;
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return ended_ || !parts_.empty(); });
      if (given_up_ || parts_.empty()) return;
      part = std::move(parts_.front());
      parts_.pop_front();
    }
    changed_.notify_all();
    // Nobody will ask for the sum; whoever adds must not wait.
    if (cancelled()) continue;
    if (part.bytes) {
      hash_.add(std::span(*part.bytes).first(static_cast<std::size_t>(part.length)));
      continue;
    }
    while (part.length > 0) {
      const auto now = static_cast<std::size_t>(std::min<std::uint64_t>(part.length, kZeros));
      hash_.add(std::span(zeros).first(now));
      part.length -= now;
      if (cancelled()) break;
      const std::lock_guard lock(mutex_);
      if (given_up_) return;
    }
  }
}

}  // namespace lantern
