// LZNT1 beside the limit of the same run: LZ4 over the same text-like bytes, in units of 4 KiB.
#include <benchmark/benchmark.h>
#include <lz4.h>

#include <algorithm>
#include <bit>

#include "filesystem/ntfs/packing/lznt1.h"
#include "kit/bytes.h"

namespace {

namespace kit = lantern::kit;

constexpr std::size_t kUnit = 4096;
constexpr std::size_t kUnits = 4096;

// A keeper's words in no order: what such files hold packs to about a half.
kit::Bytes payload() {
  const char* const words[] = {"gannet ", "ledge ", "count ",   "tide ",
                               "lamp ",   "north ", "two eggs "};
  std::string text;
  std::uint32_t state = 1;
  while (text.size() < kUnit * kUnits) {
    state = state * 1664525 + 1013904223;
    text += words[(state >> 24) % 7];
    if (state >> 30 == 0) text += std::to_string(state) + "\n";
  }
  text.resize(kUnit * kUnits);
  return kit::bytes_of(text);
}

// The longest match by trying them all: slow, and only done once.
kit::Bytes pack_lznt1(lantern::ByteView in) {
  kit::Bytes out(2);
  std::size_t flags_at = 0;
  unsigned count = 8;
  for (std::size_t at = 0; at < in.size();) {
    if (count == 8) {
      flags_at = out.size();
      out.push_back(std::byte{0});
      count = 0;
    }
    const unsigned bits =
        at == 0 ? 4 : static_cast<unsigned>(std::max(4, static_cast<int>(std::bit_width(at - 1))));
    const std::size_t most =
        std::min(in.size() - at, (std::size_t{1} << (16 - bits)) - 1 + std::size_t{3});
    std::size_t best = 0;
    std::size_t back = 0;
    for (std::size_t from = 0; from < at; ++from) {
      std::size_t length = 0;
      while (length < most && in[from + length] == in[at + length]) ++length;
      if (length > best) {
        best = length;
        back = at - from;
      }
    }
    if (best >= 3) {
      out[flags_at] |= static_cast<std::byte>(1u << count);
      kit::put(out, out.size(), (back - 1) << (16 - bits) | (best - 3), 2);
      at += best;
    } else {
      out.push_back(in[at++]);
    }
    ++count;
  }
  kit::put(out, 0, 0xB000 | (out.size() - 3), 2);
  return out;
}

template <typename Pack, typename Unpack>
void run(benchmark::State& state, Pack pack, Unpack unpack) {
  const kit::Bytes bytes = payload();
  std::vector<kit::Bytes> packed;
  std::size_t stored = 0;
  for (std::size_t i = 0; i < kUnits; ++i) {
    packed.push_back(pack(lantern::ByteView(bytes).subspan(i * kUnit, kUnit)));
    stored += packed.back().size();
  }
  kit::Bytes out(kUnit);
  for (auto _ : state)
    for (std::size_t i = 0; i < kUnits; ++i) {
      unpack(packed[i], out);
      if (!std::equal(out.begin(), out.end(),
                      bytes.begin() + static_cast<std::ptrdiff_t>(i * kUnit)))
        return state.SkipWithError("wrong bytes");
    }
  state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations()) *
                          static_cast<std::int64_t>(bytes.size()));
  state.counters["packed"] = static_cast<double>(stored) / static_cast<double>(bytes.size());
}

void lznt1(benchmark::State& state) {
  run(state, pack_lznt1,
      [](const kit::Bytes& in, kit::Bytes& out) { lantern::ntfs::unpack_lznt1(in, out); });
}

void lz4(benchmark::State& state) {
  run(
      state,
      [](lantern::ByteView in) {
        kit::Bytes out(static_cast<std::size_t>(LZ4_compressBound(kUnit)));
        const int size = LZ4_compress_default(
            reinterpret_cast<const char*>(in.data()), reinterpret_cast<char*>(out.data()),
            static_cast<int>(in.size()), static_cast<int>(out.size()));
        out.resize(static_cast<std::size_t>(size));
        return out;
      },
      [](const kit::Bytes& in, kit::Bytes& out) {
        LZ4_decompress_safe(reinterpret_cast<const char*>(in.data()),
                            reinterpret_cast<char*>(out.data()), static_cast<int>(in.size()),
                            static_cast<int>(out.size()));
      });
}

BENCHMARK(lznt1);
BENCHMARK(lz4);

}  // namespace
