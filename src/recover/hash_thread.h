// A SHA-256 worked out on a thread of its own: runs of zeros and pieces of bytes, in order.
// Thread-safety: belongs to the thread that made it.
#pragma once

#include <atomic>
#include <condition_variable>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "base/bytes.h"
#include "base/sha256.h"

namespace lantern {

class HashThread {
 public:
  // `cancel`: once set, what is left is not hashed. May be empty.
  explicit HashThread(std::shared_ptr<const std::atomic<bool>> cancel = nullptr);
  ~HashThread();
  HashThread(const HashThread&) = delete;
  HashThread& operator=(const HashThread&) = delete;

  void add(std::shared_ptr<const Bytes> bytes, std::size_t length);
  void add_zeros(std::uint64_t count);
  // Waits for all of it. Throws Error{stopped} at cancel.
  std::string finish_hex();

 private:
  struct Part {
    std::shared_ptr<const Bytes> bytes;  // empty: zeros
    std::uint64_t length = 0;
  };

  void push(Part part);
  void work();

  bool cancelled() const { return cancel_ && cancel_->load(std::memory_order_relaxed); }

  std::shared_ptr<const std::atomic<bool>> cancel_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Part> parts_;
  bool ended_ = false;
  bool given_up_ = false;
  Sha256 hash_;
  std::thread worker_;
};

}  // namespace lantern
