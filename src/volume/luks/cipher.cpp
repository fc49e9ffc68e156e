#include "volume/luks/cipher.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <new>

namespace lantern::luks {
namespace {

constexpr std::size_t kBlock = 16;

std::string upper(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(),
                 [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  return text;
}

// OpenSSL counts in unsigned char.
const unsigned char* raw(const std::byte* bytes) {
  // NOLINTNEXTLINE(cppcoreguidelines-pro-type-reinterpret-cast)
  return reinterpret_cast<const unsigned char*>(bytes);
}
unsigned char* raw(std::byte* bytes) {
  // NOLINTNEXTLINE(cppcoreguidelines-pro-type-reinterpret-cast)
  return reinterpret_cast<unsigned char*>(bytes);
}

}  // namespace

std::optional<SectorCipher> SectorCipher::make(const std::string& cipher, ByteView key) {
  const std::size_t first = cipher.find('-');
  const std::size_t second = cipher.find('-', first == std::string::npos ? first : first + 1);
  if (second == std::string::npos) return std::nullopt;
  const std::string name = upper(cipher.substr(0, first));
  const std::string mode = upper(cipher.substr(first + 1, second - first - 1));
  const std::string start = cipher.substr(second + 1);
  const std::size_t bits = key.size() * 8 / (mode == "XTS" ? 2 : 1);
  if ((mode != "XTS" && mode != "CBC") || key.empty()) return std::nullopt;
  SectorCipher made;
  if (start == "plain")
    made.start_ = Start::plain;
  else if (start == "plain64")
    made.start_ = Start::plain64;
  else if (start == "plain64be")
    made.start_ = Start::plain64be;
  else if (start.starts_with("essiv:"))
    made.start_ = Start::essiv;
  else
    return std::nullopt;
  const auto keyed = [](const std::string& wanted, const unsigned char* with, std::size_t length,
                        bool encrypt) -> std::shared_ptr<const State> {
    const std::unique_ptr<EVP_CIPHER, decltype(&EVP_CIPHER_free)> type(
        EVP_CIPHER_fetch(nullptr, wanted.c_str(), nullptr), EVP_CIPHER_free);
    if (!type || static_cast<std::size_t>(EVP_CIPHER_get_key_length(type.get())) != length)
      return nullptr;
    auto state = std::make_shared<State>(EVP_CIPHER_CTX_new());
    if (!*state ||
        EVP_CipherInit_ex2(state->get(), type.get(), with, nullptr, encrypt ? 1 : 0, nullptr) != 1)
      return nullptr;
    EVP_CIPHER_CTX_set_padding(state->get(), 0);
    return state;
  };
  const std::string algorithm = name + "-" + std::to_string(bits) + "-" + mode;
  made.decrypting_ = keyed(algorithm, raw(key.data()), key.size(), false);
  made.encrypting_ = keyed(algorithm, raw(key.data()), key.size(), true);
  if (made.start_ == Start::essiv) {
    const EVP_MD* const hash = EVP_get_digestbyname(start.substr(6).c_str());
    std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
    unsigned length = 0;
    if (hash == nullptr ||
        EVP_Digest(key.data(), key.size(), digest.data(), &length, hash, nullptr) != 1)
      return std::nullopt;
    made.essiv_ =
        keyed(name + "-" + std::to_string(length * 8) + "-ECB", digest.data(), length, true);
    OPENSSL_cleanse(digest.data(), digest.size());
    if (!made.essiv_) return std::nullopt;
  }
  if (!made.decrypting_ || !made.encrypting_) return std::nullopt;
  return made;
}

SectorCipher::State SectorCipher::copy_of(const State& state) {
  State copy(EVP_CIPHER_CTX_new());
  if (!copy || EVP_CIPHER_CTX_copy(copy.get(), state.get()) != 1) throw std::bad_alloc();
  return copy;
}

void SectorCipher::decrypt(std::uint64_t number, std::uint64_t step, std::size_t sector_bytes,
                           std::span<std::byte> bytes) const {
  run(*decrypting_, number, step, sector_bytes, bytes);
}

void SectorCipher::encrypt(std::uint64_t number, std::uint64_t step, std::size_t sector_bytes,
                           std::span<std::byte> bytes) const {
  run(*encrypting_, number, step, sector_bytes, bytes);
}

void SectorCipher::run(const State& keyed, std::uint64_t number, std::uint64_t step,
                       std::size_t sector_bytes, std::span<std::byte> bytes) const {
  const State state = copy_of(keyed);
  const State essiv = essiv_ ? copy_of(*essiv_) : State();
  int done = 0;
  std::array<unsigned char, kBlock> start{};
  for (std::size_t at = 0; at + sector_bytes <= bytes.size(); at += sector_bytes, number += step) {
    start.fill(0);
    for (std::size_t i = 0; i < 8; ++i) {
      const auto byte = static_cast<unsigned char>(number >> 8 * i);
      if (start_ == Start::plain64be)
        start.at(kBlock - 1 - i) = byte;
      else if (start_ != Start::plain || i < 4)
        start.at(i) = byte;
    }
    if (essiv) {
      std::array<unsigned char, kBlock> plain = start;
      EVP_CipherUpdate(essiv.get(), start.data(), &done, plain.data(), kBlock);
    }
    EVP_CipherInit_ex2(state.get(), nullptr, nullptr, start.data(), -1, nullptr);
    unsigned char* const sector = raw(bytes.data() + at);
    EVP_CipherUpdate(state.get(), sector, &done, sector, static_cast<int>(sector_bytes));
  }
}

}  // namespace lantern::luks
