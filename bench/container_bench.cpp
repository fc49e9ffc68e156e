// Reading disks out of containers beside the limit of the same run, 1 MiB pieces:
//   RawFile                the flat bytes as a plain file, through the byte source
//   Container/KIND         the same bytes in each kind of image we write
//   BareInflate            the deflate library alone over clusters like those of the packed kinds
//   Packed/KIND/THREADS    the packed kinds, with that many threads; compare with BareInflate
#include <benchmark/benchmark.h>
#include <libdeflate.h>

#include <fstream>

#include "kit/bytes.h"
#include "lantern/container.h"
#include "lantern/imaging.h"

namespace {

using lantern::Context;
using lantern::SourcePtr;
namespace kit = lantern::kit;

constexpr std::size_t kBytes = 128u << 20;
constexpr std::size_t kCluster = 64u << 10;

const kit::Folder& folder() {
  static const kit::Folder made;
  return made;
}

// Text-like bytes, that pack to about a third.
const kit::Bytes& payload() {
  static const kit::Bytes bytes = [] {
    kit::Bytes made(kBytes);
    std::uint32_t state = 1;
    for (std::size_t at = 0; at < made.size(); ++at) {
      state = state * 1664525 + 1013904223;
      made[at] = at % 7 < 4 && at > 4096 ? made[at - 1 - (state >> 24)]
                                         : static_cast<std::byte>('a' + (state >> 27));
    }
    return made;
  }();
  return bytes;
}

std::string raw_file() {
  static const std::string path = folder().file("raw", payload());
  return path;
}

std::string image_of(lantern::ImageKind kind) {
  const std::string path = folder() / std::string(lantern::to_string(kind));
  const Context context;
  if (!std::ifstream(path))
    lantern::write_image(lantern::open_file_source(raw_file(), context), path,
                         {kind, false, {}, {}}, context);
  return path;
}

void read_through(benchmark::State& state, const SourcePtr& disk) {
  kit::Bytes piece(1u << 20);
  std::uint64_t at = 0;
  for (auto _ : state) {
    benchmark::DoNotOptimize(disk->read(at, piece).length);
    at = at + piece.size() < disk->size() ? at + piece.size() : 0;
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(piece.size()));
}

void RawFile(benchmark::State& state) {
  read_through(state, lantern::open_file_source(raw_file(), Context()));
}

void read_image(benchmark::State& state, lantern::ImageKind kind, unsigned threads) {
  Context context;
  context.threads = threads;
  read_through(state, lantern::open_container(lantern::open_file_source(image_of(kind), context),
                                              {}, context)
                          .flat);
}

void BareInflate(benchmark::State& state) {
  static const std::vector<kit::Bytes> packed = [] {
    std::vector<kit::Bytes> clusters;
    auto* const tool = libdeflate_alloc_compressor(6);
    for (std::size_t at = 0; at < kBytes; at += kCluster) {
      kit::Bytes cluster(kCluster);
      cluster.resize(libdeflate_deflate_compress(tool, payload().data() + at, kCluster,
                                                 cluster.data(), cluster.size()));
      clusters.push_back(std::move(cluster));
    }
    libdeflate_free_compressor(tool);
    return clusters;
  }();
  auto* const tool = libdeflate_alloc_decompressor();
  kit::Bytes out(kCluster);
  std::size_t i = 0;
  for (auto _ : state) {
    for (int n = 0; n < 16; ++n, i = (i + 1) % packed.size())
      benchmark::DoNotOptimize(libdeflate_deflate_decompress(
          tool, packed[i].data(), packed[i].size(), out.data(), out.size(), nullptr));
  }
  state.SetBytesProcessed(state.iterations() * 16 * static_cast<std::int64_t>(kCluster));
  libdeflate_free_decompressor(tool);
}

void Container(benchmark::State& state, lantern::ImageKind kind) {
  read_image(state, kind, 1);
}
void Packed(benchmark::State& state, lantern::ImageKind kind) {
  read_image(state, kind, static_cast<unsigned>(state.range(0)));
}

using lantern::ImageKind;
BENCHMARK(RawFile)->UseRealTime();
BENCHMARK_CAPTURE(Container, vdi, ImageKind::vdi)->UseRealTime();
BENCHMARK_CAPTURE(Container, vhd, ImageKind::vhd)->UseRealTime();
BENCHMARK_CAPTURE(Container, vhdx, ImageKind::vhdx)->UseRealTime();
BENCHMARK_CAPTURE(Container, vmdk, ImageKind::vmdk)->UseRealTime();
BENCHMARK_CAPTURE(Container, qcow2, ImageKind::qcow2)->UseRealTime();
BENCHMARK(BareInflate)->UseRealTime();
BENCHMARK_CAPTURE(Packed, vmdk_stream, ImageKind::vmdk_stream)->Arg(1)->Arg(2)->UseRealTime();
BENCHMARK_CAPTURE(Packed, qcow2_compressed, ImageKind::qcow2_compressed)
    ->Arg(1)
    ->Arg(2)
    ->UseRealTime();

}  // namespace
