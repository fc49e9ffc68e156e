// Arrays and encrypted volumes beside the limit of the same run, 1 MiB pieces, chunks of 64 KiB:
//   Members                the members of an array, read one after the other as plain files
//   Parity/5/0, 5/1, 6/2   level 5 clean, with one lost; level 6 with two lost; compare with
//   Members BareXts                AES-256-XTS alone, a call per sector of 512, two threads
//   Decrypted              an encrypted volume; compare with BareXts
#include <benchmark/benchmark.h>
#include <openssl/evp.h>

#include <thread>

#include "kit/bytes.h"
#include "lantern/sources.h"
#include "volume/array/array.h"
#include "volume/luks/decrypted.h"

namespace {

using lantern::Context;
using lantern::SourcePtr;
namespace kit = lantern::kit;
namespace array = lantern::array;

constexpr std::size_t kMember = 64u << 20;
constexpr std::size_t kChunk = 64u << 10;
constexpr std::uint32_t kMembers = 6;

const kit::Folder& folder() {
  static const kit::Folder made;
  return made;
}

const std::vector<SourcePtr>& members() {
  static const std::vector<SourcePtr> all = [] {
    std::vector<SourcePtr> made;
    for (std::uint32_t i = 0; i < kMembers; ++i)
      made.push_back(lantern::open_file_source(
          folder().file("member " + std::to_string(i), kit::pattern(kMember, i + 1)), Context()));
    return made;
  }();
  return all;
}

void read_through(benchmark::State& state, const lantern::ByteSource& disk) {
  kit::Bytes piece(1u << 20);
  std::uint64_t at = 0;
  for (auto _ : state) {
    benchmark::DoNotOptimize(disk.read(at, piece).length);
    at = at + 2 * piece.size() <= disk.size() ? at + piece.size() : 0;
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(piece.size()));
}

void Members(benchmark::State& state) {
  kit::Bytes piece(1u << 20);
  std::size_t member = 0;
  std::uint64_t at = 0;
  for (auto _ : state) {
    benchmark::DoNotOptimize(members()[member]->read(at, piece).length);
    if (++member == members().size())
      member = 0, at = at + piece.size() < kMember ? at + piece.size() : 0;
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(piece.size()));
}

void Parity(benchmark::State& state) {
  std::vector<SourcePtr> there = members();
  for (std::int64_t i = 0; i < state.range(1); ++i) there[static_cast<std::size_t>(i)] = nullptr;
  const auto level = static_cast<int>(state.range(0));
  read_through(state, *array::make_array({level, 2, kChunk, kMembers, kMember}, there));
}

void BareXts(benchmark::State& state) {
  kit::Bytes piece(1u << 20);
  const kit::Bytes key = kit::pattern(64, 3);
  const auto part = [&](std::size_t from, std::size_t length) {
    EVP_CIPHER_CTX* const cipher = EVP_CIPHER_CTX_new();
    EVP_DecryptInit_ex(cipher, EVP_aes_256_xts(), nullptr,
                       reinterpret_cast<const unsigned char*>(key.data()), nullptr);
    for (std::size_t at = from; at < from + length; at += 512) {
      unsigned char start[16] = {static_cast<unsigned char>(at >> 9)};
      auto* const sector = reinterpret_cast<unsigned char*>(&piece[at]);
      int done = 0;
      EVP_DecryptInit_ex(cipher, nullptr, nullptr, nullptr, start);
      EVP_DecryptUpdate(cipher, sector, &done, sector, 512);
    }
    EVP_CIPHER_CTX_free(cipher);
  };
  for (auto _ : state) {
    std::thread other([&] { part(0, piece.size() / 2); });
    part(piece.size() / 2, piece.size() / 2);
    other.join();
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(piece.size()));
}

void Decrypted(benchmark::State& state) {
  const kit::Bytes key = kit::pattern(64, 3);
  read_through(state, *lantern::luks::make_decrypted(
                          members()[0], {0, kMember}, 512, 0,
                          *lantern::luks::SectorCipher::make("aes-xts-plain64", key)));
}

BENCHMARK(Members)->UseRealTime();
BENCHMARK(Parity)->Args({5, 0})->Args({5, 1})->Args({6, 2})->UseRealTime();
BENCHMARK(BareXts)->UseRealTime();
BENCHMARK(Decrypted)->UseRealTime();

}  // namespace
