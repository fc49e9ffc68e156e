// Decryption of sectors and encryption of them, as Linux names its ciphers: "aes-xts-plain64",
// "aes-cbc-essiv:sha256".
//   the cipher, its mode, and how the start value of a sector is made of its number: plain (32
//   bits), plain64, plain64be, essiv:HASH (encrypted with the hash of the key)
// Source: the Linux kernel, Documentation/admin-guide/device-mapper/dm-crypt.rst.
//
// Thread-safety: a SectorCipher may be used from any thread.
#pragma once

#include <openssl/evp.h>

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>

#include "base/bytes.h"

namespace lantern::luks {

class SectorCipher {
 public:
  // Empty: the cipher, or a key of this length for it, is not known here.
  static std::optional<SectorCipher> make(const std::string& cipher, ByteView key);

  // Whole sectors in place; `number`: of the first, in the unit the start values count.
  // `step`: by how much each next one counts up.
  void decrypt(std::uint64_t number, std::uint64_t step, std::size_t sector_bytes,
               std::span<std::byte> bytes) const;
  void encrypt(std::uint64_t number, std::uint64_t step, std::size_t sector_bytes,
               std::span<std::byte> bytes) const;

 private:
  struct Free {
    void operator()(EVP_CIPHER_CTX* state) const { EVP_CIPHER_CTX_free(state); }
  };
  using State = std::unique_ptr<EVP_CIPHER_CTX, Free>;
  enum class Start { plain, plain64, plain64be, essiv };

  static State copy_of(const State& state);
  void run(const State& keyed, std::uint64_t number, std::uint64_t step, std::size_t sector_bytes,
           std::span<std::byte> bytes) const;

  std::shared_ptr<const State> decrypting_, encrypting_;  // keyed
  std::shared_ptr<const State> essiv_;                    // keyed with the hash of the key
  Start start_{};
};

}  // namespace lantern::luks
