// Reading through the library beside the machine's own limit, in one run:
//   PreadOfFile            bare pread: the limit
//   FileSource             the same file through the byte source
//   VdiDynamic             the same bytes in a dynamic VDI
//   FatFile                the same bytes as a file of a FAT32 volume
// The argument is the size of a piece in bytes; compare rows of one argument.
#include <benchmark/benchmark.h>
#include <fcntl.h>
#include <unistd.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/container.h"
#include "lantern/file_system.h"

namespace {

using lantern::Context;
using lantern::SourcePtr;
namespace kit = lantern::kit;

constexpr std::size_t kBytes = 128u << 20;

const kit::Folder& folder() {
  static const kit::Folder made;
  return made;
}

const kit::Bytes& payload() {
  static const kit::Bytes bytes = kit::pattern(kBytes, 1);
  return bytes;
}

std::string raw_file() {
  static const std::string path = folder().file("raw", payload());
  return path;
}

void read_through(benchmark::State& state, const SourcePtr& source) {
  kit::Bytes piece(static_cast<std::size_t>(state.range(0)));
  std::uint64_t at = 0;
  for (auto _ : state) {
    benchmark::DoNotOptimize(source->read(at, piece).length);
    at = at + piece.size() < source->size() ? at + piece.size() : 0;
  }
  state.SetBytesProcessed(state.iterations() * state.range(0));
}

void PreadOfFile(benchmark::State& state) {
  const int file = open(raw_file().c_str(), O_RDONLY | O_CLOEXEC);
  kit::Bytes piece(static_cast<std::size_t>(state.range(0)));
  std::uint64_t at = 0;
  for (auto _ : state) {
    benchmark::DoNotOptimize(pread(file, piece.data(), piece.size(), static_cast<off_t>(at)));
    at = at + piece.size() < kBytes ? at + piece.size() : 0;
  }
  state.SetBytesProcessed(state.iterations() * state.range(0));
  close(file);
}

void FileSource(benchmark::State& state) {
  read_through(state, lantern::open_file_source(raw_file(), Context()));
}

void VdiDynamic(benchmark::State& state) {
  static const std::string path = folder().file("vdi", kit::make_vdi(payload(), {}));
  const Context context;
  read_through(state,
               lantern::open_container(lantern::open_file_source(path, context), {}, context).flat);
}

void FatFile(benchmark::State& state) {
  static const std::string path = [] {
    kit::FatBuilder volume(kit::FatBuilder::Width::fat32, 70'000, 4'096);
    std::vector<std::uint32_t> clusters;
    for (std::uint32_t i = 0; i < kBytes / 4'096; ++i) clusters.push_back(10 + i);
    volume.file(0, "winter.tar", payload(), clusters);
    return folder().file("fat", volume.bytes());
  }();
  const Context context;
  const auto files =
      lantern::open_file_system(lantern::open_file_source(path, context), {}, context);
  read_through(state, files->open(files->find({"winter.tar"}).at(0)).bytes);
}

BENCHMARK(PreadOfFile)->Arg(1 << 20)->Arg(4096);
BENCHMARK(FileSource)->Arg(1 << 20)->Arg(4096);
BENCHMARK(VdiDynamic)->Arg(1 << 20)->Arg(4096);
BENCHMARK(FatFile)->Arg(1 << 20)->Arg(4096);

}  // namespace
