// Random bytes for secrets, by OpenSSL.
#pragma once

#include <openssl/rand.h>

#include <span>

#include "lantern/error.h"

namespace lantern::net {

// Throws Error{cannot_read}.
inline void random_bytes(std::span<std::byte> out) {
  if (::RAND_bytes(reinterpret_cast<unsigned char*>(out.data()), static_cast<int>(out.size())) != 1)
    throw Error(ErrorCode::cannot_read, {}, std::nullopt, "this computer gives no random bytes");
}

}  // namespace lantern::net
