// The end of connections that make no progress.
//
// Thread-safety: as the connection's.
#pragma once

#include <memory>

#include "serve/net/engine.h"

namespace lantern::net {

// Ends a connection that makes no progress: `patience` begins anew with each step.
class Patience {
 public:
  Patience(Stream& stream, const asio::any_io_executor& executor)
      : stream_(stream), timer_(executor) {}
  void begin() {
    timer_.expires_after(Engine::kPatience);
    // It may have run out just as the connection ended by itself.
    timer_.async_wait([this, alive = std::weak_ptr(alive_)](boost::system::error_code error) {
      if (error || alive.expired()) return;
      boost::system::error_code ignored;
      stream_.socket().close(ignored);
    });
  }
  void end() { timer_.cancel(); }

 private:
  Stream& stream_;
  asio::steady_timer timer_;
  std::shared_ptr<int> alive_ = std::make_shared<int>();
};

}  // namespace lantern::net
