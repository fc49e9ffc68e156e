#include "base/sha256.h"

#include <fstream>
#include <vector>

#include <fmt/format.h>

#include <array>

#include "lantern/error.h"

namespace lantern {
namespace {

// Fetched once: looking the algorithm up costs more than hashing a small file.
const EVP_MD* algorithm() {
  static const EVP_MD* const fetched = EVP_MD_fetch(nullptr, "SHA256", nullptr);
  return fetched;
}

}  // namespace

Sha256::Sha256() : state_(EVP_MD_CTX_new()) {
  if (!state_ || EVP_DigestInit_ex2(state_.get(), algorithm(), nullptr) != 1)
    throw Error(ErrorCode::unsupported, {}, std::nullopt, "SHA-256 is not offered by OpenSSL here");
}

void Sha256::add(std::span<const std::byte> bytes) {
  EVP_DigestUpdate(state_.get(), bytes.data(), bytes.size());
}

std::string Sha256::finish_hex() {
  std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
  unsigned int length = 0;
  EVP_DigestFinal_ex(state_.get(), digest.data(), &length);
  std::string text;
  for (unsigned int i = 0; i < length; ++i) text += fmt::format("{:02x}", digest.at(i));
  return text;
}

std::string sha256_of_file(const std::string& path) {
  Sha256 hash;
  std::ifstream in(path, std::ios::binary);
  std::vector<char> piece(1u << 16);
  while (in.read(piece.data(), static_cast<std::streamsize>(piece.size())) || in.gcount() > 0)
    hash.add(std::as_bytes(std::span(piece.data(), static_cast<std::size_t>(in.gcount()))));
  return hash.finish_hex();
}

std::string sha256_hex(std::string_view bytes) {
  Sha256 hash;
  hash.add(std::as_bytes(std::span(bytes.data(), bytes.size())));
  return hash.finish_hex();
}

}  // namespace lantern
