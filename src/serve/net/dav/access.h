// Who may see a share: names and passwords, kept as hashes, and attempts that are slowed.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <array>
#include <mutex>
#include <string>
#include <string_view>
#include <vector>

#include "serve/net/attempts.h"

namespace lantern::net {

class Access {
 public:
  // A password for this run alone: random, so that its digest is kept.
  void add_password(const std::string& user, const std::string& password);
  // Lines "NAME:HASH" with a hash as password_hash makes them; '#' begins a remark. Throws
  // Error{cannot_open, cannot_read}.
  void add_file(const std::string& path);

  // Of a request's Authorization (RFC 7617), with the waiting that a wrong one costs. `user`: who
  // it was.
  asio::awaitable<bool> may(std::string_view authorization, std::string& user);

 private:
  struct User {
    std::string name, hash;
  };
  bool is_right(const std::string& name, const std::string& password);

  using Digest = std::array<unsigned char, 32>;
  Digest digest_of(std::string_view text) const;

  std::vector<User> users_;
  std::array<unsigned char, 16> salt_ = new_salt();
  static std::array<unsigned char, 16> new_salt();
  Attempts attempts_;
  std::mutex mutex_;  // of what follows
  std::vector<Digest> accepted_;
};

// Argon2id, in the text form that names its own parameters.
std::string password_hash(const std::string& password);
// 16 letters and figures that are not mistaken for one another: 80 bits.
std::string new_password();

}  // namespace lantern::net
