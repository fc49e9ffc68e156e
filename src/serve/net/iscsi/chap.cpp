#include "serve/net/iscsi/chap.h"

#include <openssl/crypto.h>
#include <openssl/evp.h>

#include <array>

#include "base/store.h"

#include "serve/net/iscsi/text_keys.h"
#include "serve/net/random.h"

namespace lantern::iscsi {
namespace {

const EVP_MD* digest_of(ChapHash hash) {
  return hash == ChapHash::md5 ? ::EVP_md5() : ::EVP_sha256();
}

}  // namespace

std::optional<ChapHash> choose_chap(std::string_view offered) {
  std::optional<ChapHash> best;
  for (const std::string& item : items_of(offered)) {
    const auto number = number_of(item);
    if (number == 7u) return ChapHash::sha256;
    if (number == 5u) best = ChapHash::md5;
  }
  return best;
}

Bytes new_challenge(ChapHash hash) {
  Bytes challenge(static_cast<std::size_t>(::EVP_MD_get_size(digest_of(hash))));
  net::random_bytes(challenge);
  return challenge;
}

Bytes chap_answer(ChapHash hash, std::uint8_t id, std::string_view secret, ByteView challenge) {
  Bytes text(1 + secret.size() + challenge.size());
  text[0] = static_cast<std::byte>(id);
  store_text(text, 1, secret);
  store_bytes(text, 1 + secret.size(), challenge);
  Bytes answer(static_cast<std::size_t>(::EVP_MD_get_size(digest_of(hash))));
  unsigned length = 0;
  ::EVP_Digest(text.data(), text.size(), reinterpret_cast<unsigned char*>(answer.data()), &length,
               digest_of(hash), nullptr);
  ::OPENSSL_cleanse(text.data(), text.size());
  return answer;
}

bool is_same(ByteView a, ByteView b) {
  return a.size() == b.size() && ::CRYPTO_memcmp(a.data(), b.data(), a.size()) == 0;
}

std::string new_secret() {
  constexpr std::string_view kSigns =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._";
  static_assert(kSigns.size() == 64);
  std::array<std::byte, 16> random{};
  net::random_bytes(random);
  std::string secret;
  for (const std::byte byte : random) secret += kSigns[std::to_integer<unsigned>(byte) % 64];
  return secret;
}

}  // namespace lantern::iscsi
