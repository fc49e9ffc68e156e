#include <gtest/gtest.h>

#include <algorithm>

#include "base/store.h"
#include "kit/bytes.h"
#include "source/writable_source.h"
#include "volume/luks/decrypted.h"
#include "volume/luks/unlock.h"

namespace lantern::luks {
namespace {

using kit::Bytes;

// A LUKS2 header whose only slot is derived as `kdf` says.
Bytes header_with(const std::string& kdf, const std::string& segment_more = "") {
  const std::string text =
      R"({"keyslots":{"0":{"type":"luks2","key_size":64,"af":{"type":"luks1","stripes":4,)"
      R"("hash":"sha256"},"area":{"type":"raw","offset":"8192","size":"256",)"
      R"("encryption":"aes-xts-plain64","key_size":64},"kdf":)" +
      kdf +
      R"(}},"segments":{"0":{"type":"crypt","offset":"12288","size":"dynamic","iv_tweak":"0",)"
      R"("encryption":"aes-xts-plain64","sector_size":512)" +
      segment_more +
      R"(}},"digests":{"0":{"type":"pbkdf2","keyslots":["0"],"segments":["0"],"hash":"sha256",)"
      R"("iterations":1000,"salt":"MDEyMzQ1Njc4OWFi",)"
      R"("digest":"MDEyMzQ1Njc4OWFi"}}})";
  Bytes disk(16384);
  kit::put_text(disk, 0, "LUKS\xBA\xBE");
  disk[7] = std::byte{2};
  disk[14] = std::byte{0x20};  // 8192 bytes long
  kit::put_text(disk, 72, "sha256");
  kit::put_text(disk, 4096, text);
  return disk;
}

std::string why_not(const Bytes& disk) {
  KeyRing keys;
  keys.add("", Secret(std::vector<std::byte>(8)));
  const SourcePtr source = make_memory_source(disk);
  const Unlocked opened = unlock(source, *source, "volume", keys, Context());
  EXPECT_FALSE(opened.content);
  return opened.why_not;
}

TEST(Luks, RefusesWhatItsHeaderAsksForWithTheFigure) {
  EXPECT_EQ(why_not(header_with(R"({"type":"argon2id","time":4,"memory":1073741824,)"
                                R"("cpus":4,"salt":"MDEyMzQ1Njc4OWFi"})")),
            "no key that was given opens it (1 key slot tried); slot 0: its key derivation asks "
            "for 1.0 TiB of memory, at most 4.0 GiB are given");
  EXPECT_EQ(why_not(header_with(R"({"type":"pbkdf2","hash":"sha256","iterations":4000000000,)"
                                R"("salt":"MDEyMzQ1Njc4OWFi"})")),
            "no key that was given opens it (1 key slot tried); slot 0: its key derivation asks "
            "for 4 000 000 000 rounds, at most 200 000 000 are done");
  EXPECT_EQ(why_not(header_with(R"({"type":"argon2id","time":4000000000,"memory":4194304,)"
                                R"("cpus":4,"salt":"MDEyMzQ1Njc4OWFi"})")),
            "no key that was given opens it (1 key slot tried); slot 0: its key derivation asks "
            "for 4 000 000 000 passes over 4.0 GiB of memory");
}

TEST(Luks, NamesWhatIsNotRead) {
  const std::string kdf =
      R"({"type":"pbkdf2","hash":"sha256","iterations":1000,"salt":"MDEyMzQ1Njc4OWFi"})";
  EXPECT_EQ(why_not(header_with(kdf, R"x(,"integrity":{"type":"hmac(sha256)"})x")),
            "it is kept with integrity sums (hmac(sha256)), which is not read here");
  EXPECT_EQ(why_not(header_with(kdf)), "no key that was given opens it (1 key slot tried)");
}

TEST(Luks, DecryptsAcrossSectorsWhereverAReadBegins) {
  const Bytes key = kit::pattern(64, 5);
  const auto cipher = SectorCipher::make("aes-xts-plain64", key);
  ASSERT_TRUE(cipher);
  const Bytes closed = kit::pattern(20 * 512, 6);
  Bytes open = closed;
  cipher->decrypt(7, 1, 512, open);
  // The same behind a header of three sectors, of which the volume counts from 7 on.
  Bytes disk = kit::pattern(3 * 512, 7);
  disk.insert(disk.end(), closed.begin(), closed.end());
  const SourcePtr source =
      make_decrypted(make_memory_source(disk), {3 * 512, closed.size()}, 512, 7, *cipher);
  EXPECT_EQ(kit::read_all(*source), open);
  for (const std::size_t from : std::vector<std::size_t>{1, 511, 512, 1300, 9000}) {
    Bytes piece(700);
    ASSERT_EQ(source->read(from, piece).length, piece.size());
    EXPECT_TRUE(
        std::equal(piece.begin(), piece.end(), open.begin() + static_cast<std::ptrdiff_t>(from)))
        << from;
  }
  EXPECT_FALSE(SectorCipher::make("serpent-xts-plain64", key));
  EXPECT_FALSE(SectorCipher::make("aes-xts-random", key));
  EXPECT_FALSE(SectorCipher::make("aes-xts-plain64", kit::pattern(17, 5)));
  EXPECT_FALSE(SectorCipher::make("", key));
}

TEST(Luks, EncryptsWhatIsWrittenAndKeepsTheRestOfItsSectors) {
  for (const char* const name : {"aes-xts-plain64", "aes-cbc-essiv:sha256", "camellia-cbc-plain"})
    for (const std::size_t sector : {512u, 4096u}) {
      const Bytes key = kit::pattern(name[4] == 'x' ? 64 : 32, 5);
      const auto cipher = SectorCipher::make(name, key);
      ASSERT_TRUE(cipher) << name;
      Bytes disk = kit::pattern(40 * 4096, 6);
      const Range range{4096, disk.size() - 4096};
      Bytes open =
          kit::read_all(*make_decrypted(make_memory_source(disk), range, sector, 7, *cipher));
      for (const auto& [at, length] : std::vector<std::pair<std::size_t, std::size_t>>{
               {0, 1}, {511, 2}, {4096, 4096}, {5000, 30'000}, {range.length - 1, 1}}) {
        const auto source = make_decrypted(make_memory_source(disk), range, sector, 7, *cipher);
        const Bytes written = kit::pattern(length, static_cast<std::uint32_t>(at + 1));
        const Translation told =
            dynamic_cast<const WritableSource&>(*source).translate(at, written);
        ASSERT_EQ(told.covered, length);
        for (const LayerWrite& write : told.writes)
          store_bytes(disk, static_cast<std::size_t>(write.offset), write.bytes);
        store_bytes(open, at, written);
        EXPECT_TRUE(kit::read_all(*make_decrypted(make_memory_source(disk), range, sector, 7,
                                                  *cipher)) == open)
            << name << ", sectors of " << sector << ", byte " << at;
      }
    }
}

TEST(Luks, EveryBitOfAHeaderFlippedIsNoHarm) {
  const Bytes whole =
      header_with(R"({"type":"pbkdf2","hash":"sha256","iterations":10,"salt":"MDEyMzQ1Njc4OWFi"})");
  for (std::size_t bit = 0; bit < 640 * 8; ++bit) {
    Bytes flipped = whole;
    flipped[(bit < 512 ? 0 : 4096 - 64) + bit / 8] ^= std::byte{1} << bit % 8;
    const auto header = read_header(*make_memory_source(flipped));
    EXPECT_LE(header ? header->slots.size() : 0, 1u);
  }
}

}  // namespace
}  // namespace lantern::luks
