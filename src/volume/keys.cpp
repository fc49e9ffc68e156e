#include "lantern/volume/keys.h"

#include <openssl/crypto.h>

#include <utility>

namespace lantern {

Secret& Secret::operator=(const Secret& other) {
  if (this == &other) return *this;
  wipe();
  bytes_ = other.bytes_;
  return *this;
}

Secret& Secret::operator=(Secret&& other) noexcept {
  if (this == &other) return *this;
  wipe();
  bytes_ = std::move(other.bytes_);
  return *this;
}

void Secret::wipe() {
  if (!bytes_.empty()) OPENSSL_cleanse(bytes_.data(), bytes_.size());
  bytes_.clear();
}

void KeyRing::add(std::string address, Secret key) {
  const std::lock_guard lock(mutex_);
  given_.emplace_back(std::move(address), std::move(key));
}

void KeyRing::ask_with(Ask ask) {
  const std::lock_guard lock(mutex_);
  ask_ = std::move(ask);
}

std::vector<Secret> KeyRing::keys_for(const std::string& address) const {
  const std::lock_guard lock(mutex_);
  std::vector<Secret> keys;
  for (const bool own : {true, false})
    for (const auto& [of, key] : given_)
      // A disk without a table is its only volume.
      if (own ? !of.empty() && (of == address || of + "::1" == address) : of.empty())
        keys.push_back(key);
  return keys;
}

std::optional<Secret> KeyRing::ask(const std::string& address, const std::string& what) {
  const std::lock_guard lock(mutex_);
  if (!ask_) return std::nullopt;
  const auto known = answers_.find(address);
  if (known != answers_.end()) return known->second;
  return answers_.emplace(address, ask_(address, what)).first->second;
}

void KeyRing::keep(const std::string& id, Secret volume_key) {
  const std::lock_guard lock(mutex_);
  kept_.insert_or_assign(id, std::move(volume_key));
}

std::optional<Secret> KeyRing::kept(const std::string& id) const {
  const std::lock_guard lock(mutex_);
  const auto found = kept_.find(id);
  return found == kept_.end() ? std::nullopt : std::optional(found->second);
}

}  // namespace lantern
