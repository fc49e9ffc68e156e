// Who has reserved a unit: persistent reservations, and the older kind that ends with a session.
// Sources: SPC-4, 5.12, 6.15 and 6.16; SPC-2, 7.21.
//
// Thread-safety: calls are the caller's to put in order.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>

#include "serve/net/iscsi/scsi/commands.h"

namespace lantern::scsi {

// An initiator's session with the target, as "NAME,i,0xISID": what a reservation belongs to.
using Nexus = std::string;

class Reservations {
 public:
  static constexpr std::size_t kMaxRegistered = 256;

  // What is to be told another nexus with its next command.
  using Tell = std::function<void(const Nexus&, const Fault&)>;
  explicit Reservations(Tell tell) : tell_(std::move(tell)) {}

  bool allows(const Nexus& nexus, Needs needs) const;
  // PERSISTENT RESERVE IN. The data.
  Bytes list(ByteView cdb) const;
  // PERSISTENT RESERVE OUT. `fault` is set with Status::check.
  Status change(const Nexus& nexus, ByteView cdb, ByteView list, Fault& fault);
  // RESERVE and RELEASE.
  Status reserve(const Nexus& nexus);
  Status release(const Nexus& nexus);
  // Its session has ended; the unit was reset.
  void ended(const Nexus& nexus);
  void reset() { simple_.reset(); }

 private:
  struct Held {
    Nexus holder;  // of no meaning where all that are registered hold it
    std::uint8_t type = 0;
  };
  bool is_registered(const Nexus& nexus) const { return keys_.contains(nexus); }
  bool holds(const Nexus& nexus) const;
  void tell_others(const Nexus& nexus, const Fault& fault) const;
  Status sign_in(const Nexus& nexus, std::uint64_t key, bool whatever_it_was, std::uint64_t given);
  void sign_out(const Nexus& nexus);
  Status hold(const Nexus& nexus, std::uint8_t type);
  Status let_go(const Nexus& nexus, std::uint8_t type, Fault& fault);
  Status preempt(const Nexus& nexus, std::uint64_t key, std::uint8_t type, Fault& fault);

  Tell tell_;
  std::map<Nexus, std::uint64_t> keys_;
  std::optional<Held> held_;
  std::uint32_t generation_ = 0;
  std::optional<Nexus> simple_;
};

}  // namespace lantern::scsi
