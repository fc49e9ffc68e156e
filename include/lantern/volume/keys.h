// KeyRing: what may open encrypted volumes: passphrases or the bytes of key files, given or asked
// for. The keys that they led to are kept for as long as it lives, and wiped with it.
//
//   auto keys = std::make_shared<KeyRing>();
//   keys->add("", Secret(std::vector<std::byte>(32)));
//   FileSystemOptions opened;
//   opened.keys = keys;
//
// Thread-safety: any thread.
#pragma once

#include <cstddef>
#include <functional>
#include <map>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

namespace lantern {

// Bytes that are wiped when they go.
class Secret {
 public:
  Secret() = default;
  explicit Secret(std::vector<std::byte> bytes) : bytes_(std::move(bytes)) {}
  Secret(const Secret&) = default;
  Secret(Secret&&) = default;
  Secret& operator=(const Secret& other);
  Secret& operator=(Secret&& other) noexcept;
  ~Secret() { wipe(); }

  const std::vector<std::byte>& bytes() const { return bytes_; }
  std::vector<std::byte>& bytes() { return bytes_; }

 private:
  void wipe();
  std::vector<std::byte> bytes_;
};

class KeyRing {
 public:
  KeyRing() = default;
  KeyRing(const KeyRing&) = delete;
  KeyRing& operator=(const KeyRing&) = delete;

  // `address`: of the volume it is for, as printed; empty: of any.
  void add(std::string address, Secret key);
  // Asked for a volume that no key which was given opens, once for each: `what` says what it needs.
  // Empty: there is no answer.
  using Ask =
      std::function<std::optional<Secret>(const std::string& address, const std::string& what)>;
  void ask_with(Ask ask);

  // Those for a volume, its own first.
  std::vector<Secret> keys_for(const std::string& address) const;
  std::optional<Secret> ask(const std::string& address, const std::string& what);

  // What a volume is decrypted with, once found, by what identifies it.
  void keep(const std::string& id, Secret volume_key);
  std::optional<Secret> kept(const std::string& id) const;

 private:
  mutable std::mutex mutex_;
  std::vector<std::pair<std::string, Secret>> given_;
  std::map<std::string, std::optional<Secret>> answers_;  // by address
  std::map<std::string, Secret> kept_;
  Ask ask_;
};

}  // namespace lantern
