#include "container/inflate.h"

#include <gtest/gtest.h>
#include <zlib.h>

#include "kit/bytes.h"

namespace lantern {
namespace {

kit::Bytes packed(const kit::Bytes& plain) {
  kit::Bytes out(plain.size() + 1024);
  uLongf length = out.size();
  compress(reinterpret_cast<Bytef*>(out.data()), &length,
           reinterpret_cast<const Bytef*>(plain.data()), plain.size());
  out.resize(length);
  return out;
}

TEST(Inflate, WholeBlocksComeOutWhateverFollows) {
  const kit::Bytes plain = kit::pattern(65'536, 1);
  kit::Bytes in = packed(plain);
  in.resize(in.size() + 500, std::byte{0xAA});
  kit::Bytes out(plain.size());
  EXPECT_EQ(inflate_block(Packing::zlib, in, out), out.size());
  EXPECT_EQ(out, plain);
}

TEST(Inflate, ACutBlockGivesWhatComesBeforeTheCut) {
  const kit::Bytes plain = kit::pattern(65'536, 2);
  kit::Bytes in = packed(plain);
  in.resize(in.size() / 2);
  kit::Bytes out(plain.size());
  const std::size_t good = inflate_block(Packing::zlib, in, out);
  EXPECT_GT(good, 1'000u);
  EXPECT_LT(good, out.size());
  EXPECT_TRUE(
      std::equal(plain.begin(), plain.begin() + static_cast<std::ptrdiff_t>(good), out.begin()));
}

TEST(Inflate, WrongAndLargerBlocksNeverWritePastTheirPlace) {
  const kit::Bytes in = packed(kit::Bytes(1 << 20));
  kit::Bytes out(4'096, std::byte{1});
  EXPECT_LE(inflate_block(Packing::zlib, in, out), out.size());
  EXPECT_EQ(inflate_block(Packing::zlib, kit::pattern(100, 3), out), 0u);
  EXPECT_EQ(inflate_block(Packing::zstd, kit::pattern(100, 3), out), 0u);
  EXPECT_EQ(inflate_block(Packing::deflate, {}, out), 0u);
}

}  // namespace
}  // namespace lantern
