// SHA-256 (FIPS 180-4) by OpenSSL. One Sha256 belongs to one thread.
#pragma once

#include <openssl/evp.h>

#include <memory>
#include <span>
#include <string>
#include <string_view>

namespace lantern {

class Sha256 {
 public:
  Sha256();
  void add(std::span<const std::byte> bytes);
  // 64 lower-case hexadecimal digits; the object is spent afterwards.
  std::string finish_hex();

 private:
  struct Free {
    void operator()(EVP_MD_CTX* state) const { EVP_MD_CTX_free(state); }
  };
  std::unique_ptr<EVP_MD_CTX, Free> state_;
};

std::string sha256_hex(std::string_view bytes);
// Of all that can be read of a file of this computer.
std::string sha256_of_file(const std::string& path);

}  // namespace lantern
