// The files of a disk as a WebDAV share (RFC 4918, classes 1 and 2), read-only, and as pages for
// browsers.
//
// Thread-safety: a handler may run for several connections at once.
#pragma once

#include <functional>
#include <string>

#include "serve/net/certificate.h"
#include "serve/net/dav/access.h"
#include "serve/net/dav/dav_locks.h"
#include "serve/net/dav/shared_tree.h"
#include "serve/net/engine.h"

namespace lantern::net {

class WebdavServer {
 public:
  // `title`: at the head of a page. `accessed`: told of each request, one line; may be empty.
  WebdavServer(SharedTree& tree, const LiveDisk& live, Engine& engine, Access& access, TlsPtr tls,
               std::string title, std::function<void(const std::string&)> accessed)
      : tree_(tree),
        live_(live),
        engine_(engine),
        access_(access),
        tls_(std::move(tls)),
        title_(std::move(title)),
        accessed_(std::move(accessed)) {}

  // One connection.
  asio::awaitable<void> serve(Stream& stream);

 private:
  friend class DavConnection;

  SharedTree& tree_;
  const LiveDisk& live_;
  Engine& engine_;
  Access& access_;
  TlsPtr tls_;
  std::string title_;
  std::function<void(const std::string&)> accessed_;
  DavLocks locks_;
};

}  // namespace lantern::net
