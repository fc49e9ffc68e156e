// Attempts at a password, slowed: those of all clients together, and wrong ones more.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <chrono>
#include <mutex>

#include "serve/net/engine.h"

namespace lantern::net {

class Attempts {
 public:
  static constexpr std::chrono::milliseconds kBetween{200};
  static constexpr std::chrono::seconds kAfterWrong{1};

  // To be waited for before one is looked at.
  asio::awaitable<void> turn() {
    asio::steady_timer wait(co_await asio::this_coro::executor);
    {
      const std::lock_guard lock(mutex_);
      next_ = std::max(next_, std::chrono::steady_clock::now()) + kBetween;
      wait.expires_at(next_ - kBetween);
    }
    co_await wait.async_wait(asio::use_awaitable);
  }
  // To be waited for before it is said that one was wrong.
  static asio::awaitable<void> was_wrong() {
    asio::steady_timer wait(co_await asio::this_coro::executor, kAfterWrong);
    co_await wait.async_wait(asio::use_awaitable);
  }

 private:
  std::mutex mutex_;
  std::chrono::steady_clock::time_point next_{};
};

}  // namespace lantern::net
