#include "serve/net/dav/access.h"

#include <argon2.h>
#include <openssl/crypto.h>
#include <openssl/sha.h>

#include <algorithm>
#include <fstream>

#include "lantern/error.h"
#include "lantern/text.h"
#include "serve/net/random.h"

namespace lantern::net {
namespace {

constexpr std::size_t kMaxFile = 1u << 20;  // bytes
constexpr std::size_t kMaxAccepted = 64;    // passwords that were right, by their digests
constexpr std::size_t kHashBytes = 32;
constexpr std::uint32_t kPasses = 2, kKiB = 19u << 10, kLanes = 1;

}  // namespace

std::string password_hash(const std::string& password) {
  std::array<unsigned char, 16> salt{};
  random_bytes(std::as_writable_bytes(std::span(salt)));
  std::string encoded(
      ::argon2_encodedlen(kPasses, kKiB, kLanes, salt.size(), kHashBytes, Argon2_id), '\0');
  const int code =
      ::argon2id_hash_encoded(kPasses, kKiB, kLanes, password.data(), password.size(), salt.data(),
                              salt.size(), kHashBytes, encoded.data(), encoded.size());
  if (code != ARGON2_OK)
    throw Error(ErrorCode::unsupported, {}, std::nullopt,
                std::string("the password cannot be hashed: ") + ::argon2_error_message(code));
  encoded.resize(encoded.find('\0') == std::string::npos ? encoded.size() : encoded.find('\0'));
  return encoded;
}

std::string new_password() {
  constexpr std::string_view kLetters = "abcdefghjkmnpqrstuvwxyz23456789A";
  std::array<unsigned char, 16> bytes{};
  random_bytes(std::as_writable_bytes(std::span(bytes)));
  std::string password;
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    if (i > 0 && i % 4 == 0) password += '-';
    password += kLetters[bytes[i] % kLetters.size()];
  }
  return password;
}

std::array<unsigned char, 16> Access::new_salt() {
  std::array<unsigned char, 16> salt{};
  random_bytes(std::as_writable_bytes(std::span(salt)));
  return salt;
}

Access::Digest Access::digest_of(std::string_view text) const {
  std::string salted(salt_.begin(), salt_.end());
  salted += text;
  Digest digest{};
  ::SHA256(reinterpret_cast<const unsigned char*>(salted.data()), salted.size(), digest.data());
  return digest;
}

void Access::add_password(const std::string& user, const std::string& password) {
  accepted_.push_back(digest_of(user + ":" + password));
}

void Access::add_file(const std::string& path) {
  std::ifstream file(path);
  if (!file)
    throw Error(ErrorCode::cannot_open, path, std::nullopt, "cannot be opened", "check the name");
  std::size_t read = 0;
  for (std::string line; std::getline(file, line);) {
    if ((read += line.size()) > kMaxFile)
      throw Error(ErrorCode::cannot_read, path, std::nullopt, "is no file of passwords");
    if (line.empty() || line.front() == '#') continue;
    const std::size_t colon = line.find(':');
    const std::string hash = colon == std::string::npos ? "" : line.substr(colon + 1);
    // A name may not have one, so that the first is the border.
    if (colon == 0 || !hash.starts_with("$argon2id$"))
      throw Error(ErrorCode::cannot_read, path, std::nullopt,
                  "has a line that is not NAME:HASH with an Argon2id hash",
                  "lantern serve --add-user NAME writes such lines");
    users_.push_back({line.substr(0, colon), hash});
  }
  if (users_.empty())
    throw Error(ErrorCode::cannot_read, path, std::nullopt, "names nobody",
                "lantern serve --add-user NAME writes such lines");
}

bool Access::is_right(const std::string& name, const std::string& password) {
  if (users_.empty()) return false;
  // A later line of the same name is a new password.
  const auto known = std::find_if(users_.rbegin(), users_.rend(),
                                  [&](const User& user) { return user.name == name; });
  // Whether a name is known cannot be told from the time it takes.
  const User& asked = known == users_.rend() ? users_.front() : *known;
  const bool fits =
      ::argon2id_verify(asked.hash.c_str(), password.data(), password.size()) == ARGON2_OK;
  return fits && known != users_.rend();
}

asio::awaitable<bool> Access::may(std::string_view authorization, std::string& user) {
  constexpr std::string_view kScheme = "Basic ";
  if (authorization.size() < kScheme.size() ||
      !equal_ignoring_case(authorization.substr(0, kScheme.size()), kScheme))
    co_return false;
  std::string given;
  for (const std::byte byte : from_base64(authorization.substr(kScheme.size())))
    given += static_cast<char>(byte);
  const std::size_t colon = given.find(':');
  if (colon == std::string::npos) co_return false;
  const std::string name = given.substr(0, colon);
  const Digest digest = digest_of(given);
  {
    const std::lock_guard lock(mutex_);
    bool known = false;
    for (const Digest& one : accepted_)
      known = ::CRYPTO_memcmp(one.data(), digest.data(), digest.size()) == 0 || known;
    if (known) {
      user = name;
      co_return true;
    }
  }
  co_await attempts_.turn();
  bool right = false;
  {
    // One at a time: each takes 19 MiB.
    const std::lock_guard lock(mutex_);
    right = is_right(name, given.substr(colon + 1));
    if (right && accepted_.size() < kMaxAccepted) accepted_.push_back(digest);
  }
  ::OPENSSL_cleanse(given.data(), given.size());
  if (right) {
    user = name;
    co_return true;
  }
  co_await Attempts::was_wrong();
  co_return false;
}

}  // namespace lantern::net
