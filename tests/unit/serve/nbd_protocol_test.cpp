#include "serve/net/nbd_protocol.h"

#include <gtest/gtest.h>

#include "base/store.h"

namespace lantern::nbd {
namespace {

Bytes request_bytes(std::uint16_t command, std::uint64_t offset, std::uint32_t length) {
  Bytes bytes(kRequestBytes);
  store_be(bytes, 0, std::uint32_t{0x25609513});
  store_be(bytes, 6, command);
  store_be(bytes, 16, offset);
  store_be(bytes, 24, length);
  return bytes;
}

TEST(Nbd, ARequestIsReadAsItWasSent) {
  const auto asked = request(request_bytes(kRead, 4096, 512));
  ASSERT_TRUE(asked);
  EXPECT_EQ(asked->command, kRead);
  EXPECT_EQ(asked->offset, 4096u);
  EXPECT_EQ(asked->length, 512u);
  Bytes noise = request_bytes(kRead, 0, 1);
  noise[0] = std::byte{0};
  EXPECT_FALSE(request(noise));
  EXPECT_FALSE(request(ByteView(noise).first(20)));
}

struct Case {
  std::uint16_t command;
  std::uint64_t offset;
  std::uint32_t length;
  bool writable;
  std::uint32_t refused;
};

TEST(Nbd, WhatLiesOutsideIsRefused) {
  constexpr std::uint64_t kSize = 1u << 20;
  for (const Case& one : std::vector<Case>{{kRead, 0, 1u << 20, false, 0},
                                           {kRead, 1, 1u << 20, false, kBad},
                                           {kRead, ~std::uint64_t{0}, 2, false, kBad},
                                           {kWrite, 0, 512, false, kPermission},
                                           {kWrite, kSize, 1, true, kNoSpace},
                                           {kWriteZeroes, 0, 512, true, 0},
                                           {kTrim, 0, 512, false, kPermission},
                                           {kFlush, ~std::uint64_t{0}, 7, false, 0},
                                           {kBlockStatus, 0, 0, false, kBad},
                                           {77, 0, 0, true, kBad}})
    EXPECT_EQ(why_refused(*request(request_bytes(one.command, one.offset, one.length)), kSize,
                          one.writable),
              one.refused)
        << one.command << ' ' << one.offset;
  EXPECT_EQ(why_refused(*request(request_bytes(kRead, 0, kMaxRequest + 1)), 1ull << 40, true),
            kOverflow);
}

TEST(Nbd, TextsThatEndPastTheDataAreNone) {
  Bytes data(10);
  store_be(data, 0, std::uint32_t{4});
  EXPECT_TRUE(info_request(data)) << "a name of four, and nothing asked";
  store_be(data, 0, std::uint32_t{5});
  EXPECT_FALSE(info_request(data));
  store_be(data, 0, ~std::uint32_t{0});
  EXPECT_FALSE(info_request(data));
  EXPECT_FALSE(meta_request(data));
  Bytes many(8);
  store_be(many, 4, ~std::uint32_t{0});
  EXPECT_FALSE(meta_request(many)) << "2^32 queries";
}

TEST(Nbd, AnswersHaveTheLengthsTheySay) {
  EXPECT_EQ(hello().size(), 18u);
  const Bytes reply = option_reply(kGo, kInfoReply, export_info(1u << 20, kHasFlags));
  EXPECT_EQ(be32(reply, 16), reply.size() - 20);
  EXPECT_EQ(block_sizes().size(), 14u);
  EXPECT_EQ(old_export(1, 1, true).size(), old_export(1, 1, false).size() + 124);
  EXPECT_EQ(simple_reply(7, 0).size(), 16u);
  EXPECT_EQ(chunk_head(7, kData, true, 0).size(), 20u);
}

}  // namespace
}  // namespace lantern::nbd
