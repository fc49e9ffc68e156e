#include "volume/luks/unlock.h"

#include <argon2.h>
#include <fmt/format.h>
#include <openssl/crypto.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <map>
#include <optional>
#include <set>

#include "base/checked.h"
#include "base/sha256.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "volume/luks/decrypted.h"

namespace lantern::luks {
namespace {

// What a header may ask for. Above what its makers allow: a damaged or hostile one.
constexpr std::uint64_t kMaxMemoryKib = 4u << 20;
constexpr std::uint64_t kMaxRounds = 200'000'000;            // of PBKDF2: minutes
constexpr std::uint64_t kMaxFilledKib = 32 * kMaxMemoryKib;  // of argon2, over all passes: minutes
constexpr std::uint64_t kMaxKeyBytes = 512, kMaxStripes = 100'000;

const unsigned char* raw(const Bytes& bytes) {
  // NOLINTNEXTLINE(cppcoreguidelines-pro-type-reinterpret-cast)
  return reinterpret_cast<const unsigned char*>(bytes.data());
}
unsigned char* raw(Bytes& bytes) {
  // NOLINTNEXTLINE(cppcoreguidelines-pro-type-reinterpret-cast)
  return reinterpret_cast<unsigned char*>(bytes.data());
}

// Empty: it can be done here. Else why not, with the figure.
std::string why_not_derived(const Derivation& how) {
  if (how.kind == "pbkdf2") {
    if (EVP_get_digestbyname(how.hash.c_str()) == nullptr)
      return fmt::format("the hash {} is not known here", for_terminal(how.hash));
    if (how.rounds > kMaxRounds)
      return fmt::format("its key derivation asks for {} rounds, at most {} are done",
                         grouped(how.rounds), grouped(kMaxRounds));
    return {};
  }
  if (how.kind != "argon2i" && how.kind != "argon2id")
    return fmt::format("the key derivation {} is not known here", for_terminal(how.kind));
  if (how.memory_kib > kMaxMemoryKib)
    return fmt::format("its key derivation asks for {} of memory, at most {} are given",
                       human_size(saturating_mul(how.memory_kib, 1024)),
                       human_size(kMaxMemoryKib * 1024));
  if (saturating_mul(how.memory_kib, how.rounds) > kMaxFilledKib)
    return fmt::format("its key derivation asks for {} passes over {} of memory",
                       grouped(how.rounds), human_size(how.memory_kib * 1024));
  if (how.lanes == 0 || how.lanes > 64 || how.salt.size() < 8)
    return "the figures of its key derivation cannot be";
  return {};
}

// `bytes` of key from a passphrase. Empty: the library refuses, for lack of memory, say.
std::optional<Secret> derive(const Derivation& how, const Bytes& passphrase, std::size_t bytes) {
  Secret made{Bytes(bytes)};
  if (how.kind == "pbkdf2") {
    // NOLINTNEXTLINE(cppcoreguidelines-pro-type-reinterpret-cast)
    const auto* const text = reinterpret_cast<const char*>(passphrase.data());
    const bool right =
        PKCS5_PBKDF2_HMAC(text, static_cast<int>(passphrase.size()), raw(how.salt),
                          static_cast<int>(how.salt.size()), static_cast<int>(how.rounds),
                          EVP_get_digestbyname(how.hash.c_str()), static_cast<int>(bytes),
                          raw(made.bytes())) == 1;
    return right ? std::optional(std::move(made)) : std::nullopt;
  }
  const auto hash = how.kind == "argon2i" ? argon2i_hash_raw : argon2id_hash_raw;
  const int result =
      hash(static_cast<std::uint32_t>(how.rounds), static_cast<std::uint32_t>(how.memory_kib),
           static_cast<std::uint32_t>(how.lanes), passphrase.data(), passphrase.size(),
           how.salt.data(), how.salt.size(), made.bytes().data(), bytes);
  return result == ARGON2_OK ? std::optional(std::move(made)) : std::nullopt;
}

// The blocks of a buffer, each hashed with its number.
bool diffuse(Bytes& buffer, const EVP_MD* hash) {
  const auto digest_bytes = static_cast<std::size_t>(EVP_MD_get_size(hash));
  const std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> state(EVP_MD_CTX_new(),
                                                                      EVP_MD_CTX_free);
  for (std::size_t at = 0, number = 0; at < buffer.size(); at += digest_bytes, ++number) {
    const std::array<unsigned char, 4> counter = {
        static_cast<unsigned char>(number >> 24), static_cast<unsigned char>(number >> 16),
        static_cast<unsigned char>(number >> 8), static_cast<unsigned char>(number)};
    const std::size_t length = std::min(digest_bytes, buffer.size() - at);
    std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
    if (EVP_DigestInit_ex(state.get(), hash, nullptr) != 1 ||
        EVP_DigestUpdate(state.get(), counter.data(), counter.size()) != 1 ||
        EVP_DigestUpdate(state.get(), buffer.data() + at, length) != 1 ||
        EVP_DigestFinal_ex(state.get(), digest.data(), nullptr) != 1)
      return false;
    std::copy_n(digest.begin(), length, raw(buffer) + at);
  }
  return true;
}

// The key that is spread over the stripes of a slot.
std::optional<Secret> join_stripes(const Bytes& material, std::size_t key_bytes,
                                   std::uint64_t stripes, const std::string& hash_name) {
  const EVP_MD* const hash = EVP_get_digestbyname(hash_name.c_str());
  if (hash == nullptr) return std::nullopt;
  Secret key{Bytes(key_bytes)};
  for (std::uint64_t stripe = 0; stripe < stripes; ++stripe) {
    for (std::size_t i = 0; i < key_bytes; ++i)
      key.bytes()[i] ^= material[static_cast<std::size_t>(stripe) * key_bytes + i];
    if (stripe + 1 < stripes && !diffuse(key.bytes(), hash)) return std::nullopt;
  }
  return key;
}

class Unlocking {
 public:
  Unlocking(const SourcePtr& volume, const ByteSource& place, const Header& header,
            const std::string& address, KeyRing& keys, const Context& context)
      : volume_(volume),
        place_(place),
        header_(header),
        address_(address),
        keys_(keys),
        context_(context) {}

  Unlocked run() {
    Unlocked result;
    if (result.why_not = why_not_read(); !result.why_not.empty()) return result;
    std::vector<std::size_t> wanted;  // digests whose keys the segments need
    for (std::size_t i = 0; i < header_.digests.size(); ++i)
      if (is_needed(header_.digests[i])) wanted.push_back(i);
    std::map<std::size_t, Secret> found;
    for (const std::size_t i : wanted)
      if (auto known = keys_.kept(id_of(header_.digests[i]))) found.emplace(i, std::move(*known));
    for (const Secret& key : keys_.keys_for(address_)) {
      if (found.size() == wanted.size()) break;
      result.tried = true;
      try_key(key, wanted, found);
    }
    if (found.size() < wanted.size())
      if (const auto answer = keys_.ask(address_, what_it_needs())) {
        result.tried = true;
        try_key(*answer, wanted, found);
      }
    if (wanted.empty() || found.size() < wanted.size()) {
      result.why_not = why_not_opened(result.tried);
      return result;
    }
    result.content = content(found, result.why_not);
    return result;
  }

 private:
  std::string what_it_needs() const {
    return fmt::format("a passphrase or a key file ({} in use)",
                       counted(header_.slots.size(), "key slot"));
  }

  std::string why_not_opened(bool tried) const {
    if (header_.slots.empty()) return "no key slot of its header is in use";
    std::string why = tried ? fmt::format("no key that was given opens it ({} tried)",
                                          counted(header_.slots.size(), "key slot"))
                            : "no key is given";
    for (const std::string& slot : not_tried_) why += "; " + slot;
    return why;
  }

  // What no key would change.
  std::string why_not_read() const {
    if (header_.segments.empty()) return "its header does not say where the data are";
    for (const Segment& segment : header_.segments) {
      if (!segment.integrity.empty())
        return fmt::format("it is kept with integrity sums ({}), which is not read here",
                           for_terminal(segment.integrity));
      if (segment.sector_bytes < kSector || segment.sector_bytes > 4096 ||
          !is_power_of_two(segment.sector_bytes))
        return fmt::format("invalid sector size {}", segment.sector_bytes);
      // A detached header counts from the start of the volume.
      if (segment.offset >= volume_->size())
        return fmt::format("its data begin at byte {}, past the end of the volume", segment.offset);
    }
    return {};
  }

  bool is_needed(const Digest& digest) const {
    return std::any_of(header_.segments.begin(), header_.segments.end(), [&](const Segment& one) {
      return one.encrypted && std::find(digest.segments.begin(), digest.segments.end(),
                                        one.number) != digest.segments.end();
    });
  }

  std::string id_of(const Digest& digest) const {
    return header_.uuid + " " + sha256_hex(text_of(digest.value) + text_of(digest.derivation.salt));
  }

  void try_key(const Secret& key, const std::vector<std::size_t>& wanted,
               std::map<std::size_t, Secret>& found) {
    for (const KeySlot& slot : header_.slots) {
      context_.check_cancelled();
      std::vector<std::size_t> leads_to;
      for (const std::size_t i : wanted) {
        const auto& slots = header_.digests[i].slots;
        if (!found.contains(i) && std::find(slots.begin(), slots.end(), slot.number) != slots.end())
          leads_to.push_back(i);
      }
      if (leads_to.empty()) continue;
      const std::optional<Secret> volume_key = open_slot(slot, key);
      if (!volume_key) continue;
      for (const std::size_t i : leads_to)
        if (is_right(*volume_key, header_.digests[i])) {
          keys_.keep(id_of(header_.digests[i]), *volume_key);
          found.emplace(i, *volume_key);
        }
    }
  }

  void leave_out(const KeySlot& slot, const std::string& why) {
    const std::string text = fmt::format("slot {}: {}", slot.number, why);
    if (std::find(not_tried_.begin(), not_tried_.end(), text) == not_tried_.end())
      not_tried_.push_back(text);
  }

  std::optional<Secret> open_slot(const KeySlot& slot, const Secret& key) {
    if (const std::string why = why_not_derived(slot.derivation); !why.empty()) {
      leave_out(slot, why);
      return std::nullopt;
    }
    if (slot.key_bytes == 0 || slot.key_bytes > kMaxKeyBytes || slot.stripes == 0 ||
        slot.stripes > kMaxStripes || slot.cipher_key_bytes == 0 ||
        slot.cipher_key_bytes > kMaxKeyBytes) {
      leave_out(slot, "its figures cannot be");
      return std::nullopt;
    }
    const auto derived =
        derive(slot.derivation, key.bytes(), static_cast<std::size_t>(slot.cipher_key_bytes));
    if (!derived) {
      leave_out(slot, "its key derivation failed: it may need more memory than there is");
      return std::nullopt;
    }
    const auto cipher = SectorCipher::make(slot.cipher, derived->bytes());
    if (!cipher) {
      leave_out(slot, fmt::format("the cipher {} is not known here", for_terminal(slot.cipher)));
      return std::nullopt;
    }
    const std::uint64_t length = slot.key_bytes * slot.stripes;
    Secret material{Bytes(static_cast<std::size_t>(divide_up(length, kSector) * kSector))};
    const ReadResult got = place_.read(slot.place, material.bytes());
    if (got.length < material.bytes().size() || !got.unreadable.empty()) {
      leave_out(slot, "its key material cannot be read");
      return std::nullopt;
    }
    cipher->decrypt(0, 1, kSector, material.bytes());
    return join_stripes(material.bytes(), static_cast<std::size_t>(slot.key_bytes), slot.stripes,
                        slot.spread_hash);
  }

  static bool is_right(const Secret& volume_key, const Digest& digest) {
    if (digest.value.empty() || !why_not_derived(digest.derivation).empty()) return false;
    const auto made = derive(digest.derivation, volume_key.bytes(), digest.value.size());
    return made &&
           CRYPTO_memcmp(made->bytes().data(), digest.value.data(), digest.value.size()) == 0;
  }

  SourcePtr content(const std::map<std::size_t, Secret>& keys, std::string& why_not) const {
    std::vector<Piece> pieces;
    for (const Segment& segment : header_.segments) {
      std::uint64_t length = volume_->size() - segment.offset;
      if (segment.bytes) length = std::min(length, *segment.bytes);
      length = length / segment.sector_bytes * segment.sector_bytes;
      if (length == 0) continue;
      if (!segment.encrypted) {
        pieces.push_back({ExtentKind::direct, length, volume_, segment.offset});
        continue;
      }
      for (const auto& [digest, key] : keys) {
        const auto& of = header_.digests[digest].segments;
        if (std::find(of.begin(), of.end(), segment.number) == of.end()) continue;
        auto cipher = SectorCipher::make(segment.cipher, key.bytes());
        if (!cipher) {
          why_not = fmt::format("the cipher {} is not known here", for_terminal(segment.cipher));
          return nullptr;
        }
        pieces.push_back({ExtentKind::direct, length,
                          make_decrypted(volume_, {segment.offset, length}, segment.sector_bytes,
                                         segment.iv_offset, std::move(*cipher)),
                          0});
        break;
      }
    }
    if (pieces.empty()) {
      why_not = "its header does not say which key its data have";
      return nullptr;
    }
    return pieces.size() == 1 && pieces[0].from_offset == 0 ? pieces[0].from
                                                            : make_joined(std::move(pieces));
  }

  const SourcePtr& volume_;
  const ByteSource& place_;
  const Header& header_;
  const std::string& address_;
  KeyRing& keys_;
  const Context& context_;
  std::vector<std::string> not_tried_;
};

}  // namespace

Unlocked unlock(const SourcePtr& volume, const ByteSource& header, const std::string& address,
                KeyRing& keys, const Context& context) {
  const auto read = read_header(header);
  if (!read) return {nullptr, false, "its header cannot be read"};
  if (!read->sum_is_right && read->version == 2)
    context.report(FindingCode::luks_header, Severity::damage, {},
                   "the checksum of the LUKS header is wrong, in both copies",
                   "it is used as it is");
  else if (read->from_copy)
    context.report(FindingCode::luks_header, Severity::damage, {},
                   "the first LUKS header is damaged", "its second copy is used");
  for (const std::string& part : read->left_out)
    context.report(FindingCode::luks_header, Severity::warning, {}, "LUKS header: " + part,
                   "the others are used");
  if (read->being_encrypted)
    context.report(FindingCode::luks_header, Severity::warning, {},
                   "its encryption was being changed: the part that was at work may be in either "
                   "state",
                   "it is read as the header has it");
  return Unlocking(volume, header, *read, address, keys, context).run();
}

}  // namespace lantern::luks
