#include "serve/net/dav/dav_locks.h"

#include <fmt/format.h>
#include <openssl/rand.h>

#include <algorithm>
#include <array>

#include "serve/net/dav/dav_names.h"

namespace lantern::net {
namespace {

std::string new_token() {
  std::array<unsigned char, 16> bytes{};
  ::RAND_bytes(bytes.data(), static_cast<int>(bytes.size()));
  std::string token = "opaquelocktoken:";
  for (std::size_t i = 0; i < bytes.size(); ++i)
    token += fmt::format("{}{:02x}", i == 4 || i == 6 || i == 8 || i == 10 ? "-" : "", bytes[i]);
  return token;
}

}  // namespace

bool DavLocks::covers(const Lock& lock, const std::string& href) {
  return href == lock.href ||
         (lock.below && lock.href.ends_with('/') && href.starts_with(lock.href));
}

void DavLocks::forget_old() {
  const auto now = Clock::now();
  std::erase_if(locks_, [&](const auto& one) { return one.second.until <= now; });
}

DavLocks::Result DavLocks::lock(const std::string& href, bool below, const LockAsked& asked,
                                std::chrono::seconds wanted) {
  const std::lock_guard guard(mutex_);
  forget_old();
  const Lock wish{href, below, asked.exclusive, asked.owner,
                  Clock::now() + std::clamp(wanted, std::chrono::seconds(1), kLongest)};
  for (const auto& [token, lock] : locks_)
    if ((covers(lock, href) || covers(wish, lock.href)) && (lock.exclusive || asked.exclusive))
      return {Told::taken, {}};
  if (locks_.size() == kMax) return {Told::too_many, {}};
  const std::string token = new_token();
  locks_.emplace(token, wish);
  return {Told::granted, token};
}

bool DavLocks::refresh(const std::string& href, const std::string& token,
                       std::chrono::seconds wanted) {
  const std::lock_guard guard(mutex_);
  forget_old();
  const auto found = locks_.find(token);
  if (found == locks_.end() || !covers(found->second, href)) return false;
  found->second.until = Clock::now() + std::clamp(wanted, std::chrono::seconds(1), kLongest);
  return true;
}

bool DavLocks::unlock(const std::string& href, const std::string& token) {
  const std::lock_guard guard(mutex_);
  const auto found = locks_.find(token);
  if (found == locks_.end() || !covers(found->second, href)) return false;
  locks_.erase(found);
  return true;
}

std::string DavLocks::discovery(const std::string& href) {
  const std::lock_guard guard(mutex_);
  forget_old();
  std::string text;
  for (const auto& [token, lock] : locks_) {
    if (!covers(lock, href)) continue;
    const auto left =
        std::chrono::duration_cast<std::chrono::seconds>(lock.until - Clock::now()).count();
    text += fmt::format(
        "<D:activelock><D:locktype><D:write/></D:locktype><D:lockscope><D:{}/></D:lockscope>"
        "<D:depth>{}</D:depth><D:owner>{}</D:owner><D:timeout>Second-{}</D:timeout>"
        "<D:locktoken><D:href>{}</D:href></D:locktoken><D:lockroot><D:href>{}</D:href>"
        "</D:lockroot></D:activelock>",
        lock.exclusive ? "exclusive" : "shared", lock.below ? "infinity" : "0",
        for_markup(lock.owner), left + 1, token, for_markup(lock.href));
  }
  return text;
}

}  // namespace lantern::net
