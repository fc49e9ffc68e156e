// A disk and its volumes as units of an iSCSI target.
// Source: RFC 7143.
//
// Thread-safety: a handler may run for several connections at once.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "serve/live_disk.h"
#include "serve/net/attempts.h"
#include "serve/net/iscsi/login.h"
#include "serve/net/iscsi/sessions.h"

namespace lantern::iscsi {

class Server {
 public:
  using Accessed = std::function<void(const std::string&)>;

  // `accessed` is told of each login; may be empty.
  Server(LiveDisk& live, net::Engine& engine, Rules rules, Accessed accessed);

  // One connection.
  net::asio::awaitable<void> serve(net::Stream& stream);

  net::Engine& engine() { return engine_; }
  Sessions& sessions() { return sessions_; }
  const Rules& rules() const { return rules_; }
  net::Attempts& attempts() { return attempts_; }
  // Empty pointer: there is no such unit.
  scsi::Unit* unit(std::uint64_t field) const;
  const std::vector<std::uint64_t>& unit_fields() const { return fields_; }
  void accessed(const std::string& line) const {
    if (accessed_) accessed_(line);
  }
  const std::vector<std::unique_ptr<scsi::Unit>>& units() const { return units_; }

 private:
  net::Engine& engine_;
  Rules rules_;
  Accessed accessed_;
  std::vector<std::unique_ptr<scsi::Unit>> units_;
  std::vector<std::uint64_t> fields_;
  Sessions sessions_{units_};
  net::Attempts attempts_;
};

// The target's name of a disk of this address.
std::string target_name(const std::string& address);

}  // namespace lantern::iscsi
