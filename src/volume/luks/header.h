// LUKS headers, both versions, as one description. Offsets in bytes, numbers big-endian.
//   1: 0 "LUKS" BA BE  6 version 1  8 cipher (32)  40 its mode (32)  72 hash (32)  104 start of
//   data
//      (sectors)  108 bytes of the volume key  112 its digest (20)  132 salt (32)  164 rounds
//      168 UUID (40)  208 eight slots of 48: 0 00AC71F3 in use  4 rounds  8 salt (32)
//      40 place of the key material (sectors)  44 stripes
//   2: 0 "LUKS" BA BE, of the second copy "SKUL" BA BE  6 version 2  8 length  16 number, counts up
//      24 label (48)  72 hash of the checksum (32)  104 salt  168 UUID (40)  256 own place
//      448 checksum (64); from 4096 on JSON: keyslots, digests, segments
// Source: LUKS1 On-Disk Format Specification 1.2.3; LUKS2 On-Disk Format Specification 1.1.4.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"

namespace lantern::luks {

// How a passphrase becomes a key.
struct Derivation {
  std::string kind;  // "pbkdf2", "argon2i", "argon2id"
  std::string hash;  // of pbkdf2
  std::uint64_t rounds = 0;
  std::uint64_t memory_kib = 0, lanes = 0;  // of argon2
  Bytes salt;
};

struct KeySlot {
  std::string number;
  Derivation derivation;
  std::uint64_t key_bytes = 0;  // of the volume key in it
  std::uint64_t stripes = 0;
  std::string spread_hash;  // by which the stripes are joined
  std::string cipher;       // of the key material: "aes-xts-plain64"
  std::uint64_t cipher_key_bytes = 0;
  std::uint64_t place = 0;  // byte of the header at which the key material is
};

// What tells that a volume key is the right one.
struct Digest {
  std::vector<std::string> slots;     // that lead to its key
  std::vector<std::string> segments;  // that it is for
  Derivation derivation;              // pbkdf2
  Bytes value;
};

struct Segment {
  std::string number;
  bool encrypted = false;
  std::uint64_t offset = 0;            // byte of the volume
  std::optional<std::uint64_t> bytes;  // empty: to the end
  std::uint64_t iv_offset = 0;         // sectors of 512
  std::string cipher;
  std::uint64_t sector_bytes = 512;
  std::string integrity;  // empty: none
};

struct Header {
  int version = 0;
  std::string uuid, label;
  std::optional<std::size_t> slots_in_use;  // empty: their list is damaged
  std::vector<KeySlot> slots;               // those that can be used
  std::vector<Digest> digests;
  std::vector<Segment> segments;
  bool from_copy = false;             // of version 2: the first is damaged
  bool sum_is_right = true;           // of version 2
  bool being_encrypted = false;       // a change of its encryption was under way
  std::vector<std::string> left_out;  // parts that cannot be used, in words
};

// One copy of it, at any byte of a source. Empty: none whose figures can be.
struct HeaderCopy {
  Header header;
  std::uint64_t number = 0;     // counts up
  std::uint64_t own_place = 0;  // byte of the volume at which it says it is
};
std::optional<HeaderCopy> read_header_at(const ByteSource& source, std::uint64_t at);

// The better of the copies of the header at the start of `source`. Empty: there is none.
std::optional<Header> read_header(const ByteSource& source);

}  // namespace lantern::luks
