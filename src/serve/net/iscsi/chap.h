// The challenge handshake by which an initiator and a target show that they know a secret without
// sending it.
// Sources: RFC 1994; RFC 7143, section 12.1.3; algorithm numbers by IANA, "PPP Authentication
// Algorithms".
//
// Thread-safety: pure functions.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "base/bytes.h"

namespace lantern::iscsi {

constexpr std::size_t kMaxChallenge = 1024;  // bytes

enum class ChapHash { md5 = 5, sha256 = 7 };
// The best of those an initiator names, "5,7". Empty: none is known here.
std::optional<ChapHash> choose_chap(std::string_view offered);

// Random, and as long as an answer. Throws Error{cannot_read}.
Bytes new_challenge(ChapHash hash);
Bytes chap_answer(ChapHash hash, std::uint8_t id, std::string_view secret, ByteView challenge);
// In a time that does not tell how much of it is right.
bool is_same(ByteView a, ByteView b);

// 16 signs, 96 random bits: as many as the standard asks for and as the initiator of Windows takes.
std::string new_secret();

}  // namespace lantern::iscsi
