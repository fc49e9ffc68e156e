#include "serve/net/engine.h"

#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <charconv>
#include <csignal>
#include <cstring>
#include <filesystem>
#include <thread>

#include "lantern/error.h"

namespace lantern::net {
namespace {

using namespace std::chrono_literals;
using Endpoint = asio::generic::stream_protocol::endpoint;

constexpr unsigned kMaxThreads = 4;

[[noreturn]] void fail_address(const std::string& address, const std::string& what) {
  throw Error(ErrorCode::usage, address, std::nullopt, what,
              "for example: 127.0.0.1:10809, or unix:/run/disk.socket");
}

struct HostPort {
  std::string host;
  std::uint16_t port = 0;
};

HostPort host_port(const std::string& address) {
  const std::size_t colon = address.rfind(':');
  if (colon == std::string::npos) fail_address(address, "has no port");
  HostPort parts;
  parts.host = address.substr(0, colon);
  if (parts.host.starts_with('[') && parts.host.ends_with(']'))
    parts.host = parts.host.substr(1, parts.host.size() - 2);
  // Nobody else is to see it unless that was said.
  if (parts.host.empty() || parts.host == "localhost") parts.host = "127.0.0.1";
  const char* const end = address.data() + address.size();
  const auto read = std::from_chars(address.data() + colon + 1, end, parts.port);
  if (read.ec != std::errc() || read.ptr != end) fail_address(address, "has no port");
  return parts;
}

// A socket that nobody listens on any more is in the way; one that answers is another's.
void clear_socket(const std::string& path) {
  struct stat facts {};
  if (::lstat(path.c_str(), &facts) != 0) return;
  if (!S_ISSOCK(facts.st_mode))
    throw Error(ErrorCode::refused, path, std::nullopt, "is there already, and is no socket",
                "name another path");
  asio::io_context io;
  asio::local::stream_protocol::socket probe(io);
  boost::system::error_code error;
  if (!probe.connect(asio::local::stream_protocol::endpoint(path), error))
    throw Error(ErrorCode::refused, path, std::nullopt, "is in use by another program",
                "name another path");
  ::unlink(path.c_str());
}

// Each connection is an open file.
void allow_files() {
  rlimit files{};
  if (::getrlimit(RLIMIT_NOFILE, &files) != 0) return;
  files.rlim_cur = files.rlim_max;
  ::setrlimit(RLIMIT_NOFILE, &files);
}

}  // namespace

asio::awaitable<void> RequestMemory::take(std::uint64_t bytes) {
  while (true) {
    std::uint64_t now = used_;
    // One request always goes: no one is larger than all.
    while (now == 0 || now + bytes <= kMax)
      if (used_.compare_exchange_weak(now, now + bytes)) co_return;
    asio::steady_timer wait(co_await asio::this_coro::executor, 5ms);
    co_await wait.async_wait(asio::use_awaitable);
  }
}

asio::awaitable<void> Rate::pass(std::uint64_t bytes) {
  if (rate_ == 0) co_return;
  std::chrono::steady_clock::time_point until;
  {
    const std::lock_guard lock(mutex_);
    const auto now = std::chrono::steady_clock::now();
    next_ = std::max(next_, now) +
            std::chrono::nanoseconds(bytes * 1000 / std::max<std::uint64_t>(rate_ / 1'000'000, 1));
    until = next_;
  }
  asio::steady_timer wait(co_await asio::this_coro::executor, until);
  co_await wait.async_wait(asio::use_awaitable);
}

Engine::Engine(const ServeLimits& limits, const Context& context)
    : limits_(limits), context_(context), rate_(limits.bytes_per_second) {
  allow_files();
}

Engine::~Engine() {
  for (const std::string& path : unix_paths_) ::unlink(path.c_str());
}

std::string Engine::listen(const std::string& address, Handler handler) {
  Endpoint endpoint;
  std::string shown = address;
  const bool local = address.starts_with("unix:");
  HostPort parts;
  if (local) {
    std::error_code error;
    const std::string path =
        std::filesystem::absolute(address.substr(5), error).lexically_normal().string();
    // As much as the system takes.
    if (address.size() == 5 || path.size() > 100)
      fail_address(address, "is no path for a socket, or is too long for one");
    shown = "unix:" + path;
    clear_socket(path);
    endpoint = asio::local::stream_protocol::endpoint(path);
  } else {
    parts = host_port(address);
    boost::system::error_code error;
    const auto host = asio::ip::make_address(parts.host, error);
    if (error) fail_address(address, "is no address of this computer in figures");
    endpoint = asio::ip::tcp::endpoint(host, parts.port);
  }
  auto acceptor = std::make_unique<Acceptor>(io_);
  boost::system::error_code error;
  acceptor->open(endpoint.protocol(), error);
  if (!error && !local) acceptor->set_option(asio::socket_base::reuse_address(true), error);
  if (!error) acceptor->bind(endpoint, error);
  if (!error) acceptor->listen(asio::socket_base::max_listen_connections, error);
  if (error)
    throw Error(ErrorCode::refused, address, std::nullopt,
                "cannot be listened on: " + error.message(), "name another port or path");
  if (local) {
    unix_paths_.push_back(shown.substr(5));
    ::chmod(unix_paths_.back().c_str(), 0600);
  } else {
    const Endpoint bound = acceptor->local_endpoint();
    asio::ip::tcp::endpoint tcp;
    std::memcpy(tcp.data(), bound.data(), bound.size());
    shown = (tcp.address().is_v6() ? "[" + parts.host + "]" : parts.host) + ":" +
            std::to_string(tcp.port());
  }
  handlers_.push_back(std::make_unique<Handler>(std::move(handler)));
  acceptors_.push_back(std::move(acceptor));
  asio::co_spawn(io_, accept(*acceptors_.back(), *handlers_.back()), asio::detached);
  return shown;
}

namespace {

// A connection from its first byte to its last.
asio::awaitable<void> connection(Socket socket, const Engine::Handler& handler,
                                 std::atomic<std::size_t>& count) {
  try {
    boost::system::error_code error;
    socket.set_option(asio::ip::tcp::no_delay(true), error);  // of no meaning to a local socket
    const auto stream = std::make_unique<Stream>(std::move(socket));
    co_await handler(*stream);
  } catch (const std::exception&) {
    // The client is gone, or sent what cannot be: the connection ends.
  }
  --count;
}

}  // namespace

asio::awaitable<void> Engine::accept(Acceptor& acceptor, const Handler& handler) {
  while (acceptor.is_open()) {
    boost::system::error_code error;
    Socket socket(asio::make_strand(io_));
    co_await acceptor.async_accept(socket, asio::redirect_error(asio::use_awaitable, error));
    if (error == asio::error::operation_aborted) co_return;
    if (error) {
      // Out of descriptors: others have to end first.
      asio::steady_timer wait(io_, 100ms);
      co_await wait.async_wait(asio::use_awaitable);
      continue;
    }
    if (++connections_ > limits_.connections) {
      --connections_;
      continue;
    }
    const auto executor = socket.get_executor();
    asio::co_spawn(executor, connection(std::move(socket), handler, connections_), asio::detached);
  }
}

asio::awaitable<void> Engine::watch(const std::function<std::string()>& each_second) {
  asio::steady_timer timer(io_);
  for (int tick = 0;; ++tick) {
    timer.expires_after(100ms);
    co_await timer.async_wait(asio::use_awaitable);
    const bool stopped = context_.cancel && *context_.cancel;
    if (!stopped && tick % 10 == 9) why_ended_ = each_second();
    if (!stopped && why_ended_.empty()) continue;
    io_.stop();
    co_return;
  }
}

void Engine::go_on(const std::function<void()>& fork) {
  io_.notify_fork(asio::io_context::fork_prepare);
  fork();
  io_.notify_fork(asio::io_context::fork_child);
}

void Engine::run(const std::function<std::string()>& each_second) {
  // A client that is gone is an error of the write, and no end of the process.
  const auto before = std::signal(SIGPIPE, SIG_IGN);
  asio::co_spawn(io_, watch(each_second), asio::detached);
  const unsigned threads = std::clamp(std::thread::hardware_concurrency(), 1u, kMaxThreads);
  std::vector<std::jthread> others;
  for (unsigned i = 1; i < threads; ++i) others.emplace_back([this] { io_.run(); });
  io_.run();
  others.clear();
  std::signal(SIGPIPE, before);
}

}  // namespace lantern::net
