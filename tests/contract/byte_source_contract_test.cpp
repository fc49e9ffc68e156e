#include "contract/byte_source_contract.h"

#include <algorithm>
#include <thread>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/container.h"
#include "lantern/file_system.h"
#include "lantern/scratch.h"
#include "lantern/sources.h"
#include "source/failing_source.h"
#include "source/laid_writes.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::size_t kSize = 300'001;

TEST_P(ByteSourceContract, GivesAllItsBytesInPiecesOfAnySize) {
  const kit::Folder folder;
  const Context context;
  const SourcePtr source = GetParam().make(folder, context);
  const Bytes& expected = GetParam().expected;
  ASSERT_EQ(source->size(), expected.size());
  EXPECT_EQ(kit::read_all(*source), expected);
  for (const std::size_t step : {1u, 511u, 4096u, 70'000u}) {
    const std::size_t from =
        step == 1 ? expected.size() - std::min<std::size_t>(expected.size(), 1000) : 0;
    Bytes piece(step);
    for (std::size_t at = from; at < expected.size(); at += step) {
      const std::size_t want = std::min(step, expected.size() - at);
      ASSERT_EQ(source->read(at, piece).length, want);
      ASSERT_TRUE(std::equal(piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(want),
                             expected.begin() + static_cast<std::ptrdiff_t>(at)))
          << "at " << at << " in pieces of " << step;
    }
  }
}

TEST_P(ByteSourceContract, IsShortOnlyAtItsEnd) {
  const kit::Folder folder;
  const Context context;
  const SourcePtr source = GetParam().make(folder, context);
  Bytes piece(100, std::byte{0x55});
  EXPECT_EQ(source->read(source->size() - 10, piece).length, 10u);
  EXPECT_EQ(piece[10], std::byte{0x55}) << "bytes past the end are not touched";
  EXPECT_EQ(source->read(source->size(), piece).length, 0u);
  EXPECT_EQ(source->read(~0ull, piece).length, 0u);
  EXPECT_EQ(source->read(0, {}).length, 0u);
}

TEST_P(ByteSourceContract, ReportsWhatIsUnreadable) {
  const kit::Folder folder;
  const Context context;
  const SourcePtr source = GetParam().make(folder, context);
  std::vector<Range> lost;
  kit::read_all(*source, &lost);
  std::vector<Range> joined;
  for (const Range& range : lost) {
    if (!joined.empty() && joined.back().end() == range.offset)
      joined.back().length += range.length;
    else
      joined.push_back(range);
  }
  EXPECT_EQ(joined, GetParam().unreadable);
}

TEST_P(ByteSourceContract, ExtentsCoverARangeWithoutGapsAndZeroMeansZero) {
  const kit::Folder folder;
  const Context context;
  const SourcePtr source = GetParam().make(folder, context);
  const Bytes& expected = GetParam().expected;
  for (const Range& asked :
       {Range{0, source->size()}, Range{1000, 5000}, Range{source->size() - 5, 1000}}) {
    std::uint64_t at = asked.offset;
    source->extents(asked, [&](const Extent& extent) {
      EXPECT_EQ(extent.range.offset, at);
      EXPECT_FALSE(extent.range.empty());
      if (extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated)
        for (std::uint64_t i = at; i < extent.range.end(); ++i)
          if (expected[i] != std::byte{0}) {
            ADD_FAILURE() << "byte " << i << " is not zero";
            break;
          }
      at = extent.range.end();
      return true;
    });
    EXPECT_EQ(at, std::min(asked.end(), source->size()));
  }
  int calls = 0;
  source->extents({0, source->size()}, [&](const Extent&) { return ++calls < 1; });
  EXPECT_EQ(calls, 1) << "a visitor stops the walk";
}

TEST_P(ByteSourceContract, ManyThreadsReadAtOnce) {
  const kit::Folder folder;
  const Context context;
  const SourcePtr source = GetParam().make(folder, context);
  const Bytes& expected = GetParam().expected;
  std::atomic<int> wrong{0};
  std::vector<std::thread> threads;
  for (std::size_t t = 0; t < 4; ++t)
    threads.emplace_back([&, t] {
      Bytes piece(3000);
      for (std::size_t i = 0; i < 200; ++i) {
        const std::size_t at = (t * 7919 + i * 104'729) % expected.size();
        const std::size_t got = source->read(at, piece).length;
        if (!std::equal(piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(got),
                        expected.begin() + static_cast<std::ptrdiff_t>(at)))
          ++wrong;
      }
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(wrong, 0);
}

Bytes with_zeros(Bytes bytes, const Range& range) {
  std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(range.offset), range.length,
              std::byte{0});
  return bytes;
}

const Bytes kPlain = kit::pattern(kSize, 1);
const Bytes kHoled = with_zeros(kPlain, {65'536, 131'072});

SourcePtr memory(const kit::Folder&, const Context&) {
  return make_memory_source(kPlain);
}

SourcePtr window(const kit::Folder&, const Context&) {
  Bytes around(777);
  kit::put_bytes(around, 777, kPlain);
  around.resize(around.size() + 5);
  return make_window(make_memory_source(around), {777, kSize});
}

SourcePtr window_past_end(const kit::Folder&, const Context&) {
  return make_window(make_memory_source(Bytes(kPlain.begin(), kPlain.begin() + 200'000)),
                     {0, kSize});
}

SourcePtr joined(const kit::Folder&, const Context&) {
  const SourcePtr plain = make_memory_source(kPlain);
  return make_joined({{ExtentKind::direct, 65'536, plain, 0},
                      {ExtentKind::zero, 131'072, nullptr, 0},
                      {ExtentKind::direct, kSize - 196'608, plain, 196'608}});
}

SourcePtr cached(const kit::Folder&, const Context& context) {
  return make_cached(make_memory_source(kPlain), context);
}

SourcePtr cached_failing(const kit::Folder&, const Context& context) {
  FaultPlan plan;
  plan.unreadable.push_back({100'000, 1'000});
  return make_cached(std::make_shared<FailingSource>(make_memory_source(kPlain), plan, [](auto) {}),
                     context);
}

SourcePtr file(const kit::Folder& folder, const Context& context) {
  return open_file_source(folder.file("plain.img", kHoled), context);
}

// Half of it in the file, with another end; the rest written over that, some of it twice.
SourcePtr scratch(const kit::Folder& folder, const Context& context) {
  kit::Bytes below(kHoled.begin(), kHoled.begin() + kSize / 2);
  kit::put_bytes(below, 1000, kit::pattern(5000, 77));
  Context over = context;
  over.scratch = Scratch::in_memory(0);
  const std::string path = folder.file("below.img", below);
  const SourcePtr source = open_file_source(path, over);
  const auto write = [&](std::size_t from, std::size_t to) {
    LaidWrites::of(*over.scratch)
        .write(path, from, std::span(kHoled).subspan(from, to - from), false);
  };
  LaidWrites::of(*over.scratch).write(path, 2000, kit::pattern(3000, 78), false);
  write(1000, 6000);
  write(100'000, kSize);
  write(120'000, 130'000);
  return source;
}

SourcePtr failing(const kit::Folder&, const Context&) {
  FaultPlan plan;
  plan.unreadable.push_back({100'000, 1'000});
  plan.ends_early_at = 299'000;
  return std::make_shared<FailingSource>(make_memory_source(kPlain), plan, [](auto) {});
}

SourcePtr split(const kit::Folder& folder, const Context& context) {
  const auto piece = [&](const char* name, std::size_t from, std::size_t to) {
    folder.file(name, Bytes(kPlain.begin() + static_cast<std::ptrdiff_t>(from),
                            kPlain.begin() + static_cast<std::ptrdiff_t>(to)));
  };
  piece("card.001", 0, 120'000);
  piece("card.002", 120'000, 240'000);
  piece("card.003", 240'000, kSize);
  const SourcePtr first = open_file_source(folder / "card.001", context);
  return *open_split_image("card.001", first, *host_neighbours(folder.path(), context), context);
}

SourcePtr vdi(bool fixed, const Context& context) {
  kit::VdiOptions options;
  options.block_bytes = 16'384;
  options.fixed = fixed;
  options.reversed = !fixed;
  return open_container(make_memory_source(kit::make_vdi(kHoled, options)), {}, context).flat;
}

// A file of a FAT volume, in pieces and out of order.
SourcePtr fat_file(const kit::Folder&, const Context& context) {
  kit::FatBuilder volume(kit::FatBuilder::Width::fat16);
  std::vector<std::uint32_t> clusters;
  for (std::uint32_t i = 0; i < (kSize + 511) / 512; ++i)
    clusters.push_back(100 + i / 50 % 2 * 2000 + i);
  volume.file(0, "photographs.tar", kPlain, clusters);
  const auto files = open_file_system(make_memory_source(volume.bytes()), {}, context);
  return files->open(files->find({"photographs.tar"}).at(0)).bytes;
}

INSTANTIATE_TEST_SUITE_P(
    All, ByteSourceContract,
    ::testing::Values(
        SourceCase{"memory", memory, kPlain, {}}, SourceCase{"window", window, kPlain, {}},
        SourceCase{"window_past_end",
                   window_past_end,
                   with_zeros(kPlain, {200'000, kSize - 200'000}),
                   {{200'000, kSize - 200'000}}},
        SourceCase{"joined", joined, kHoled, {}}, SourceCase{"cached", cached, kPlain, {}},
        SourceCase{"cached_failing",
                   cached_failing,
                   with_zeros(kPlain, {100'000, 1'000}),
                   {{100'000, 1'000}}},
        SourceCase{"file", file, kHoled, {}}, SourceCase{"scratch", scratch, kHoled, {}},
        SourceCase{"failing",
                   failing,
                   with_zeros(with_zeros(kPlain, {100'000, 1'000}), {299'000, kSize - 299'000}),
                   {{100'000, 1'000}, {299'000, kSize - 299'000}}},
        SourceCase{"split", split, kPlain, {}},
        SourceCase{"vdi_dynamic",
                   [](const kit::Folder&, const Context& c) { return vdi(false, c); },
                   kHoled,
                   {}},
        SourceCase{"vdi_fixed",
                   [](const kit::Folder&, const Context& c) { return vdi(true, c); },
                   kHoled,
                   {}},
        SourceCase{"fat_file", fat_file, kPlain, {}}),
    [](const auto& each) { return each.param.name; });

}  // namespace
}  // namespace lantern
