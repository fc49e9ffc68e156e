// Disks and volumes as network block devices.
//
// Thread-safety: a handler may run for several connections at once.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "serve/live_disk.h"
#include "serve/net/certificate.h"
#include "serve/net/engine.h"

namespace lantern::net {

class NbdServer {
 public:
  // `tls`: a client has to speak it; empty: none is spoken.
  NbdServer(LiveDisk& live, Engine& engine, TlsPtr tls)
      : live_(live), engine_(engine), tls_(std::move(tls)) {}

  // One connection.
  asio::awaitable<void> serve(Stream& stream);

 private:
  LiveDisk& live_;
  Engine& engine_;
  TlsPtr tls_;
};

}  // namespace lantern::net
