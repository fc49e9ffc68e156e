// One engine for all that is served over a network: listens, keeps the limits, and runs a coroutine
// a connection, until it is stopped.
//
// Thread-safety: run() belongs to one thread and makes others; handlers run on any of them, one at
// a time for one connection.
#pragma once

#include <atomic>
#include <functional>
#include <mutex>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/serving.h"
#include "serve/net/stream.h"

namespace lantern::net {

// Bytes in memory for requests of all connections together.
class RequestMemory {
 public:
  static constexpr std::uint64_t kMax = 128u << 20;

  // Waits until there is room.
  asio::awaitable<void> take(std::uint64_t bytes);
  void give(std::uint64_t bytes) { used_ -= bytes; }

 private:
  std::atomic<std::uint64_t> used_{0};
};

// Bytes a second that are sent and taken, of all connections together.
class Rate {
 public:
  explicit Rate(std::uint64_t bytes_per_second) : rate_(bytes_per_second) {}
  asio::awaitable<void> pass(std::uint64_t bytes);

 private:
  std::uint64_t rate_;  // 0: no bound
  std::mutex mutex_;
  std::chrono::steady_clock::time_point next_{};
};

class Engine {
 public:
  using Handler = std::function<asio::awaitable<void>(Stream& stream)>;

  Engine(const ServeLimits& limits, const Context& context);
  ~Engine();

  // "HOST:PORT", "[::1]:PORT", ":PORT" of this computer alone, "unix:PATH". Throws Error{usage,
  // refused, cannot_open}. What it listens on, with the port that was free where 0 was asked for.
  std::string listen(const std::string& address, Handler handler);
  // Does what makes another process of this one.
  void go_on(const std::function<void()>& fork);
  // Until the context is cancelled. `each_second`: asked now and then; a text ends it.
  void run(const std::function<std::string()>& each_second);
  // Why it ended by itself; empty: it did not.
  const std::string& why_ended() const { return why_ended_; }

  RequestMemory& memory() { return memory_; }
  Rate& rate() { return rate_; }
  // A client that does not read or does not answer in so many seconds is let go of.
  static constexpr std::chrono::seconds kPatience{60};

 private:
  using Acceptor = asio::basic_socket_acceptor<asio::generic::stream_protocol>;
  asio::awaitable<void> accept(Acceptor& acceptor, const Handler& handler);
  asio::awaitable<void> watch(const std::function<std::string()>& each_second);

  ServeLimits limits_;
  const Context& context_;
  asio::io_context io_;
  std::vector<std::unique_ptr<Acceptor>> acceptors_;
  std::vector<std::unique_ptr<Handler>> handlers_;
  std::vector<std::string> unix_paths_;
  std::atomic<std::size_t> connections_{0};
  RequestMemory memory_;
  Rate rate_;
  std::string why_ended_;
};

}  // namespace lantern::net
