// Locks (RFC 4918, section 6) of a share that nobody can write to: kept for those who ask for one
// before they open a file.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <chrono>
#include <map>
#include <mutex>
#include <optional>
#include <string>

#include "serve/net/dav/dav_xml.h"

namespace lantern::net {

class DavLocks {
 public:
  static constexpr std::size_t kMax = 1024;
  static constexpr std::chrono::seconds kLongest{3600};

  enum class Told { granted, taken, too_many };
  struct Result {
    Told told = Told::granted;
    std::string token;  // "opaquelocktoken:..."
  };
  // `href`: what is locked; with `below`, and all that is in it.
  Result lock(const std::string& href, bool below, const LockAsked& asked,
              std::chrono::seconds wanted);
  // False: there is no such lock of it.
  bool refresh(const std::string& href, const std::string& token, std::chrono::seconds wanted);
  bool unlock(const std::string& href, const std::string& token);
  // What the property lockdiscovery holds.
  std::string discovery(const std::string& href);

 private:
  using Clock = std::chrono::steady_clock;
  struct Lock {
    std::string href;
    bool below = false, exclusive = true;
    std::string owner;
    Clock::time_point until;
  };
  static bool covers(const Lock& lock, const std::string& href);
  void forget_old();

  std::mutex mutex_;
  std::map<std::string, Lock> locks_;  // by token
};

}  // namespace lantern::net
