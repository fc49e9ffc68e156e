#include "container/vdi/vdi.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;
using Codes = std::vector<std::string>;

constexpr std::size_t kBlock = 16'384;

Bytes disk() {
  Bytes bytes = kit::pattern(10 * kBlock + 5'000, 9);
  std::fill_n(bytes.begin() + 3 * kBlock, 2 * kBlock, std::byte{0});
  return bytes;
}

Bytes file(bool fixed = false) {
  kit::VdiOptions options;
  options.block_bytes = kBlock;
  options.fixed = fixed;
  return kit::make_vdi(disk(), options);
}

TEST(Vdi, SaysWhatItIs) {
  const Context context;
  const auto vdi = open_vdi(make_memory_source(file()), {}, context);
  ASSERT_TRUE(vdi);
  EXPECT_EQ(vdi->variant, "dynamic");
  EXPECT_EQ(vdi->id, "72656b73-6f72-2077-7664-692069642031");
  EXPECT_EQ(kit::codes(context), Codes{});
  EXPECT_EQ(open_vdi(make_memory_source(file(true)), {}, context)->variant, "fixed");
  EXPECT_FALSE(open_vdi(make_memory_source(kit::pattern(4096, 1)), {}, context));
}

TEST(Vdi, HolesAreKnownWithoutReadingThem) {
  const Context context;
  const SourcePtr flat = open_vdi(make_memory_source(file()), {}, context)->flat;
  EXPECT_TRUE(known_zero(*flat, {3 * kBlock, 2 * kBlock}));
  EXPECT_FALSE(known_zero(*flat, {3 * kBlock - 1, 10}));
}

TEST(Vdi, DiscardedBlocksAreZero) {
  Bytes bytes = file();
  kit::put(bytes, kit::kVdiMapAt, 0xFFFFFFFE, 4);
  const SourcePtr flat = open_vdi(make_memory_source(bytes), {}, Context())->flat;
  Bytes expected = disk();
  std::fill_n(expected.begin(), kBlock, std::byte{0});
  EXPECT_EQ(kit::read_all(*flat), expected);
}

TEST(Vdi, ACutTailIsLostAndTold) {
  Bytes bytes = file();
  bytes.resize(bytes.size() - kBlock - 100);
  const Context context;
  const SourcePtr flat = open_vdi(make_memory_source(bytes), {}, context)->flat;
  std::vector<Range> lost;
  const Bytes got = kit::read_all(*flat, &lost);
  // The last stored block (10) is gone, and the last 100 bytes of the one before.
  EXPECT_EQ(lost, (std::vector<Range>{{10 * kBlock - 100, 5'100}}));
  Bytes expected = disk();
  std::fill(expected.begin() + 10 * kBlock - 100, expected.end(), std::byte{0});
  EXPECT_EQ(got, expected);
  EXPECT_EQ(kit::codes(context), (Codes{"container.past-end@147456", "container.table@163840",
                                        "container.past-end@163840"}));
}

TEST(Vdi, EntriesPastTheEndAndSharedOnesAreFindings) {
  Bytes bytes = file();
  kit::put(bytes, kit::kVdiMapAt, 0x00FFFFFF, 4);
  kit::put(bytes, kit::kVdiMapAt + 4, 2, 4);  // block 2 has that place
  const Context context;
  const SourcePtr flat = open_vdi(make_memory_source(bytes), {}, context)->flat;
  EXPECT_EQ(kit::codes(context), (Codes{"container.table@0", "container.past-end@0",
                                        "container.unplaced@1536", "container.shared@32768"}));
  std::vector<Range> lost;
  kit::read_all(*flat, &lost);
  // Nothing says which of the two is right.
  EXPECT_EQ(lost, (std::vector<Range>{{0, 3 * kBlock}}));
}

TEST(Vdi, ASizeThatDoesNotFitItsBlocksIsCutToWhatIsMapped) {
  Bytes bytes = file();
  kit::put(bytes, 0x170, 1ull << 60, 8);
  const Context context;
  EXPECT_EQ(open_vdi(make_memory_source(bytes), {}, context)->flat->size(), 11 * kBlock);
  EXPECT_EQ(kit::codes(context), Codes{"container.header@368"});
}

struct HeaderCase {
  std::size_t at;
  std::uint64_t value;
  ErrorCode code;
};

class VdiHeader : public ::testing::TestWithParam<HeaderCase> {};

TEST_P(VdiHeader, FiguresThatCannotBeAreRefusedWithTheirPlace) {
  Bytes bytes = file();
  kit::put(bytes, GetParam().at, GetParam().value, 4);
  try {
    open_vdi(make_memory_source(bytes), {}, Context());
    ADD_FAILURE() << "opened";
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), GetParam().code);
    EXPECT_EQ(error.offset(), GetParam().at);
  }
}

INSTANTIATE_TEST_SUITE_P(All, VdiHeader,
                         ::testing::Values(HeaderCase{0x178, 0, ErrorCode::cannot_read},
                                           HeaderCase{0x178, 12'345, ErrorCode::cannot_read},
                                           HeaderCase{0x154, 0, ErrorCode::cannot_read},
                                           HeaderCase{0x154, 0xFFFFFF00, ErrorCode::cannot_read},
                                           HeaderCase{0x158, 0, ErrorCode::cannot_read},
                                           HeaderCase{0x4C, 77, ErrorCode::unsupported}));

}  // namespace
}  // namespace lantern
