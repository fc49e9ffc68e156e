// Arrays as byte sources: see byte_source_contract.h.
#include "contract/byte_source_contract.h"
#include "lantern/sources.h"
#include "volume/array/array.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::uint64_t kChunk = 4096;
constexpr std::uint64_t kRows = 20;

// Members of level 5, right-asymmetric, over three: parity on member row mod 3.
struct Laid {
  std::vector<Bytes> members = std::vector<Bytes>(3);
  Bytes content;
};

Laid laid() {
  Laid made;
  for (std::uint64_t row = 0; row < kRows; ++row) {
    Bytes data[2] = {kit::pattern(kChunk, static_cast<std::uint32_t>(2 * row + 1)),
                     kit::pattern(kChunk, static_cast<std::uint32_t>(2 * row + 2))};
    Bytes parity(kChunk);
    for (std::size_t i = 0; i < kChunk; ++i) parity[i] = data[0][i] ^ data[1][i];
    std::size_t next = 0;
    for (std::size_t member = 0; member < 3; ++member) {
      const Bytes& chunk = member == row % 3 ? parity : data[next++];
      made.members[member].insert(made.members[member].end(), chunk.begin(), chunk.end());
    }
    for (const Bytes& chunk : data)
      made.content.insert(made.content.end(), chunk.begin(), chunk.end());
  }
  return made;
}

SourcePtr parity(const std::vector<int>& there) {
  const Laid made = laid();
  std::vector<SourcePtr> members(3);
  for (const int i : there)
    members[static_cast<std::size_t>(i)] =
        make_memory_source(made.members[static_cast<std::size_t>(i)]);
  return array::make_array({5, 1, kChunk, 3, kRows * kChunk}, std::move(members));
}

// With member 2 alone: chunk 1 of each row where it does not have the parity.
std::pair<Bytes, std::vector<Range>> with_one_member() {
  Bytes content = laid().content;
  std::vector<Range> lost;
  for (std::uint64_t chunk = 0; chunk < 2 * kRows; ++chunk) {
    const std::uint64_t row = chunk / 2;
    if (row % 3 != 2 && chunk % 2 == 1) continue;
    std::fill_n(content.begin() + static_cast<std::ptrdiff_t>(chunk * kChunk), kChunk,
                std::byte{0});
    if (!lost.empty() && lost.back().end() == chunk * kChunk)
      lost.back().length += kChunk;
    else
      lost.push_back({chunk * kChunk, kChunk});
  }
  return {content, lost};
}

SourcePtr mirror() {
  const Bytes content = laid().content;
  return array::make_array({1, 0, 0, 2, content.size()}, {nullptr, make_memory_source(content)});
}

INSTANTIATE_TEST_SUITE_P(
    Arrays, ByteSourceContract,
    ::testing::Values(SourceCase{"parity",
                                 [](const kit::Folder&, const Context&) {
                                   return parity({0, 1, 2});
                                 },
                                 laid().content,
                                 {}},
                      SourceCase{"parity_degraded",
                                 [](const kit::Folder&, const Context&) {
                                   return parity({0, 2});
                                 },
                                 laid().content,
                                 {}},
                      SourceCase{"parity_beyond_repair",
                                 [](const kit::Folder&, const Context&) { return parity({2}); },
                                 with_one_member().first, with_one_member().second},
                      SourceCase{"mirror_degraded",
                                 [](const kit::Folder&, const Context&) { return mirror(); },
                                 laid().content,
                                 {}}),
    [](const auto& each) { return each.param.name; });

}  // namespace
}  // namespace lantern
