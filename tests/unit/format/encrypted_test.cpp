#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using kit::Bytes;

std::optional<Recognition> of(const Bytes& bytes) {
  for (Recognition& found : known_formats().recognise(*make_memory_source(bytes)))
    if (found.kind == FormatKind::encryption) return found;
  return std::nullopt;
}

TEST(Encryption, LuksSaysHowManySlotsAreInUse) {
  Bytes first(8192);
  kit::put_text(first, 0, "LUKS\xBA\xBE");
  kit::put(first, 7, 1, 1);
  EXPECT_EQ(of(first)->required_key,
            "a passphrase or a key file, but no key slot of its header is in use");
  for (const std::size_t slot : {0u, 3u})
    kit::put_bytes(first, 208 + 48 * slot, kit::bytes_of(std::string("\x00\xAC\x71\xF3", 4)));
  EXPECT_EQ(of(first)->title, "LUKS1");
  EXPECT_EQ(of(first)->required_key, "a passphrase or a key file (2 key slots in use)");

  Bytes second(0x8000);
  kit::put_text(second, 0x4000, "SKUL\xBA\xBE");
  kit::put(second, 0x4007, 2, 1);
  kit::put(second, 0x400E, 0x40, 1);
  kit::put(second, 0x4000 + 262, 0x40, 1);  // its own place, big-endian
  kit::put_text(second, 0x5000, R"({"keyslots": {"0": {}, "1": {}, "4": {}}})");
  EXPECT_EQ(of(second)->title, "LUKS2 (its first header is lost)");
  EXPECT_EQ(of(second)->required_key, "a passphrase or a key file (3 key slots in use)");
  kit::put_text(second, 0x5000, "not a text of that kind");
  EXPECT_NE(of(second)->required_key.find("damaged"), std::string::npos);
}

TEST(Encryption, BitLockerSaysWhatProtectsItsKey) {
  Bytes disk(128 << 10);
  kit::put_text(disk, 3, "-FVE-FS-");
  EXPECT_EQ(of(disk)->title, "BitLocker");
  EXPECT_NE(of(disk)->required_key.find("48 digits"), std::string::npos);
  kit::put(disk, 0xB0, 0xFFFFFFFFFFFFFFF0, 8);
  kit::put(disk, 0xB8, 0x8000, 8);
  kit::put_text(disk, 0x8000, "-FVE-FS-");
  kit::put(disk, 0x8040, 0x200, 4);
  std::size_t at = 0x8070;
  for (const unsigned protection : {0x2000u, 0x0800u, 0x0800u}) {
    kit::put(disk, at, 0x40, 2);
    kit::put(disk, at + 2, 2, 2);
    kit::put(disk, at + 4, 8, 2);
    kit::put(disk, at + 0x22, protection, 2);
    at += 0x40;
  }
  EXPECT_EQ(of(disk)->required_key, "a password, or a recovery key of 48 digits");
}

TEST(Encryption, WhatIsNotEncryptedIsNotCalledSo) {
  EXPECT_FALSE(of(Bytes(64 << 10)));
  EXPECT_FALSE(of(kit::pattern(64 << 10, 1)));
  EXPECT_FALSE(of({}));
}

}  // namespace
}  // namespace lantern
