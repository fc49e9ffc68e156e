// Files the system packs cannot be made by any system here: these encoders follow the public
// specifications from the other side, with codes of a fixed length.
#include "filesystem/ntfs/packing/packed.h"

#include <gtest/gtest.h>

#include "filesystem/ntfs/ntfs.h"
#include "kit/ntfs_builder.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::NtfsBuilder;

// Words of sixteen bits, highest first, with whole bytes where the decoder will look for them: two
// words ahead.
class BitWriter {
 public:
  void bits(std::uint32_t value, unsigned count) {
    for (unsigned i = count; i-- > 0;) {
      if (free_ == 0) {
        // The place of a word is taken sixteen bits before it is needed.
        place_ = next_;
        next_ = bytes_.size();
        bytes_.resize(bytes_.size() + 2);
        free_ = 16;
      }
      --free_;
      word_ = word_ << 1 | (value >> i & 1);
      if (free_ == 0) kit::put(bytes_, place_, word_ & 0xFFFF, 2);
    }
  }
  void whole(std::uint32_t value) { kit::put(bytes_, bytes_.size(), value, 1); }
  Bytes finish() {
    while (free_ != 0) bits(0, 1);
    return bytes_;
  }

 private:
  Bytes bytes_ = Bytes(2);  // the first word's place
  std::size_t place_ = 0;
  std::size_t next_ = 0;
  unsigned free_ = 0;
  std::uint64_t word_ = 0;
};

struct Token {
  std::uint32_t literal = 0;
  std::uint32_t back = 0;  // 0: a literal
  std::uint32_t length = 0;
};

std::vector<Token> tokens(const Bytes& content) {
  std::vector<Token> found;
  for (std::size_t at = 0; at < content.size();) {
    Token best{std::to_integer<std::uint32_t>(content[at]), 0, 1};
    for (std::size_t back = 1; back <= std::min<std::size_t>(at, 600); ++back) {
      std::uint32_t length = 0;
      while (length < 257 && at + length < content.size() &&
             content[at + length] == content[at + length - back])
        ++length;
      if (length >= 3 && length > best.length) best = {0, static_cast<std::uint32_t>(back), length};
    }
    found.push_back(best);
    at += best.length;
  }
  return found;
}

unsigned log2_of(std::uint32_t value) {
  unsigned bits = 0;
  while (value >> (bits + 1) != 0) ++bits;
  return bits;
}

// All 512 codes of nine bits.
Bytes xpress(const Bytes& content) {
  Bytes packed(256, std::byte{0x99});
  BitWriter writer;
  for (const Token& token : tokens(content)) {
    if (token.back == 0) {
      writer.bits(token.literal, 9);
      continue;
    }
    const unsigned distance = log2_of(token.back);
    const std::uint32_t length = token.length - 3;
    writer.bits(256 + distance * 16 + std::min(length, 15u), 9);
    if (length >= 15) writer.whole(length - 15);
    writer.bits(token.back - (1u << distance), distance);
  }
  kit::put_bytes(packed, packed.size(), writer.finish());
  return packed;
}

// Plain words, without anything between them.
class WordWriter {
 public:
  void bits(std::uint32_t value, unsigned count) {
    for (unsigned i = count; i-- > 0;) {
      word_ = word_ << 1 | (value >> i & 1);
      if (++held_ == 16) flush();
    }
  }
  void flush() {
    if (held_ == 0) return;
    kit::put(bytes_, bytes_.size(), word_ << (16 - held_) & 0xFFFF, 2);
    word_ = 0;
    held_ = 0;
  }
  Bytes bytes_;

 private:
  std::uint32_t word_ = 0;
  unsigned held_ = 0;
};

// The first sixteen of the main symbols have codes of 8 bits, the others of 9; lengths of matches
// 248 codes of 8 and none for the last.
void lzx_lengths(WordWriter& writer, const std::vector<int>& lengths) {
  // Two symbols, 17 - 8 and 17 - 9, and the zero: two bits each.
  for (int i = 0; i < 20; ++i) writer.bits(i == 0 || i == 8 || i == 9 ? 2 : 0, 4);
  for (const int length : lengths) writer.bits(length == 0 ? 0u : length == 9 ? 1u : 2u, 2);
}

Bytes lzx(const Bytes& content) {
  constexpr std::uint32_t kBases[] = {0,  1,  2,  3,  4,   6,   8,   12,  16,  24,
                                      32, 48, 64, 96, 128, 192, 256, 384, 512, 768};
  WordWriter writer;
  writer.bits(1, 3);
  writer.bits(0, 1);
  writer.bits(static_cast<std::uint32_t>(content.size()), 16);
  std::vector<int> main(496, 9);
  std::fill_n(main.begin(), 16, 8);
  lzx_lengths(writer, {main.begin(), main.begin() + 256});
  lzx_lengths(writer, {main.begin() + 256, main.end()});
  std::vector<int> lengths(249, 8);
  lengths[248] = 0;
  lzx_lengths(writer, lengths);
  const auto symbol = [&](std::uint32_t value) {
    if (value < 16)
      writer.bits(value, 8);
    else
      writer.bits(32 + (value - 16), 9);
  };
  for (const Token& token : tokens(content)) {
    if (token.back == 0) {
      symbol(token.literal);
      continue;
    }
    const std::uint32_t formatted = token.back + 2;
    std::uint32_t slot = 19;
    while (kBases[slot] > formatted) --slot;
    const std::uint32_t length = token.length - 2;
    symbol(256 + slot * 8 + std::min(length, 7u));
    if (length >= 7) writer.bits(length - 7, 8);
    writer.bits(formatted - kBases[slot], slot < 4 ? 0 : slot / 2 - 1);
  }
  writer.flush();
  return writer.bytes_;
}

Bytes text(std::size_t size) {
  std::string words;
  for (std::size_t i = 0; words.size() < size; ++i)
    words += i % 7 == 3 ? "gannet ledge, " : "nest " + std::to_string(i * i) + " two eggs\n";
  words.resize(size);
  return kit::bytes_of(words);
}

TEST(Xpress, GivesBackWhatWasPacked) {
  for (const std::size_t size : {1u, 2u, 100u, 4095u, 4096u, 16384u}) {
    const Bytes content = text(size);
    Bytes out(size);
    EXPECT_TRUE(ntfs::unpack_xpress(xpress(content), out)) << size;
    EXPECT_EQ(out, content) << size;
  }
  const Bytes run(4096, std::byte{'x'});
  Bytes out(run.size());
  EXPECT_TRUE(ntfs::unpack_xpress(xpress(run), out));
  EXPECT_EQ(out, run) << "matches as long as they can be";
}

TEST(Lzx, GivesBackWhatWasPacked) {
  for (const std::size_t size : {1u, 100u, 4096u, 30'000u}) {
    const Bytes content = text(size);
    Bytes out(size);
    EXPECT_TRUE(ntfs::unpack_lzx(lzx(content), out)) << size;
    EXPECT_EQ(out, content) << size;
  }
}

TEST(Lzx, ABlockThatIsNotPackedIsTakenAsItLies) {
  WordWriter writer;
  writer.bits(3, 3);
  writer.bits(0, 1);
  writer.bits(5, 16);
  writer.flush();
  for (int i = 0; i < 3; ++i) kit::put(writer.bytes_, writer.bytes_.size(), 1, 4);
  kit::put_text(writer.bytes_, writer.bytes_.size(), "eggs!");
  Bytes out(5);
  EXPECT_TRUE(ntfs::unpack_lzx(writer.bytes_, out));
  EXPECT_EQ(kit::text_of(out), "eggs!");
}

TEST(Lzx, CallsLeadWhereTheyLed) {
  WordWriter writer;
  writer.bits(3, 3);
  writer.bits(0, 1);
  writer.bits(32, 16);
  writer.flush();
  for (int i = 0; i < 3; ++i) kit::put(writer.bytes_, writer.bytes_.size(), 1, 4);
  Bytes program(32);
  program[4] = std::byte{0xE8};
  kit::put(program, 5, 1000, 4);
  program[12] = std::byte{0xE8};
  kit::put(program, 13, 0xFFFFFFF8, 4);
  kit::put_bytes(writer.bytes_, writer.bytes_.size(), program);
  Bytes out(32);
  EXPECT_TRUE(ntfs::unpack_lzx(writer.bytes_, out));
  kit::put(program, 5, 996, 4);
  kit::put(program, 13, 12'000'000 - 8, 4);
  EXPECT_EQ(out, program);
}

TEST(Packed, AnyBytesEndWithinTheirBounds) {
  for (std::uint32_t seed = 0; seed < 3'000; ++seed) {
    Bytes damaged = seed % 2 == 0 ? xpress(text(300)) : lzx(text(300));
    const Bytes noise = kit::pattern(8, seed);
    for (std::size_t i = 0; i < 4; ++i) damaged[(seed * 131 + i * 977) % damaged.size()] = noise[i];
    Bytes out(300);
    ntfs::unpack_xpress(damaged, out);
    ntfs::unpack_lzx(damaged, out);
  }
}

class PackedFile : public ::testing::TestWithParam<std::uint32_t> {};
INSTANTIATE_TEST_SUITE_P(All, PackedFile, ::testing::Values(0u, 1u, 2u, 3u));

TEST_P(PackedFile, ReadsAsItsOwnContent) {
  const std::uint64_t chunk = *ntfs::chunk_bytes(GetParam());
  const Bytes content = text(static_cast<std::size_t>(chunk * 2 + 1234));
  Bytes table;
  Bytes chunks;
  for (std::size_t at = 0; at < content.size(); at += chunk) {
    if (at > 0) kit::put(table, table.size(), chunks.size(), 4);
    const Bytes part(content.begin() + static_cast<std::ptrdiff_t>(at),
                     content.begin() + static_cast<std::ptrdiff_t>(
                                           std::min<std::size_t>(content.size(), at + chunk)));
    // The second is kept as it is.
    const Bytes packed = at == chunk ? part : GetParam() == 1 ? lzx(part) : xpress(part);
    kit::put_bytes(chunks, chunks.size(), packed);
  }
  kit::put_bytes(table, table.size(), chunks);
  NtfsBuilder volume;
  volume.write(120, table);
  const std::uint64_t count = (table.size() + 1023) / 1024;
  volume.use(120, count);
  Bytes reparse(8);
  kit::put(reparse, 0, 0x80000017, 4);
  kit::put(reparse, 4, 16, 2);
  kit::put(reparse, 8, 1, 4);
  kit::put(reparse, 12, 2, 4);
  kit::put(reparse, 16, 1, 4);
  kit::put(reparse, 20, GetParam(), 4);
  const std::uint64_t clusters = (content.size() + 1023) / 1024;
  volume.record(
      30, 1, 1,
      {NtfsBuilder::standard(NtfsBuilder::kNow, NtfsBuilder::kNow),
       NtfsBuilder::name(5, 5, "tool.exe", NtfsBuilder::kNow),
       NtfsBuilder::stored(0x80, {{NtfsBuilder::kHole, clusters}}, content.size(), {}, 0x8000),
       NtfsBuilder::stored(0x80, {{120, count}}, table.size(), "WofCompressedData"),
       NtfsBuilder::resident(0xC0, reparse)});
  const auto files = open_ntfs(make_memory_source(volume.bytes()), {}, Context());
  const Entry entry = files->find({"tool.exe"}).at(0);
  EXPECT_EQ(entry.size_bytes, content.size());
  EXPECT_TRUE(files->streams(entry).empty()) << "the packed bytes are no stream of the user's";
  EXPECT_EQ(kit::read_all(*files->open(entry).bytes), content);

  // A chunk that is none is unreadable; the others are read.
  Bytes damaged = volume.bytes();
  kit::put(damaged, 120 * 1024, 0xFFFFFF, 4);
  const auto left = open_ntfs(make_memory_source(damaged), {}, Context());
  std::vector<Range> unreadable;
  kit::read_all(*left->open(left->find({"tool.exe"}).at(0)).bytes, &unreadable);
  EXPECT_FALSE(unreadable.empty());
}

}  // namespace
}  // namespace lantern
