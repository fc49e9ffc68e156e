#include "container/inflate.h"

#include <libdeflate.h>
#include <zlib.h>
#include <zstd.h>

#include <memory>

namespace lantern {
namespace {

struct FreeDeflate {
  void operator()(libdeflate_decompressor* d) const { libdeflate_free_decompressor(d); }
};
struct FreeZstd {
  void operator()(ZSTD_DCtx* d) const { ZSTD_freeDCtx(d); }
};

// Decompressors are made once a thread: making one costs as much as a small block.
libdeflate_decompressor* deflate_of_thread() {
  thread_local const std::unique_ptr<libdeflate_decompressor, FreeDeflate> one(
      libdeflate_alloc_decompressor());
  return one.get();
}

ZSTD_DCtx* zstd_of_thread() {
  thread_local const std::unique_ptr<ZSTD_DCtx, FreeZstd> one(ZSTD_createDCtx());
  return one.get();
}

bool whole(Packing packing, ByteView packed, std::span<std::byte> out) {
  std::size_t used = 0;
  std::size_t made = 0;
  auto* const tool = deflate_of_thread();
  if (tool == nullptr) return false;
  const auto result = packing == Packing::zlib
                          ? libdeflate_zlib_decompress_ex(tool, packed.data(), packed.size(),
                                                          out.data(), out.size(), &used, &made)
                          : libdeflate_deflate_decompress_ex(tool, packed.data(), packed.size(),
                                                             out.data(), out.size(), &used, &made);
  return result == LIBDEFLATE_SUCCESS && made == out.size();
}

// What a streaming decoder gives before it stops.
std::size_t prefix(Packing packing, ByteView packed, std::span<std::byte> out) {
  Bytes copy(packed.begin(), packed.end());  // zlib's interface wants bytes it may write to
  z_stream stream{};
  constexpr int kWindowBits = 15;
  if (inflateInit2(&stream, packing == Packing::zlib ? kWindowBits : -kWindowBits) != Z_OK)
    return 0;
  stream.next_in = reinterpret_cast<Bytef*>(copy.data());
  stream.avail_in = static_cast<uInt>(copy.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  const int result = inflate(&stream, Z_SYNC_FLUSH);
  const std::size_t made = out.size() - stream.avail_out;
  inflateEnd(&stream);
  // Bytes before a wrong code are no surer than the code: only a clean cut leaves a sure prefix.
  const bool sure = result == Z_OK || result == Z_BUF_ERROR || result == Z_STREAM_END;
  return sure ? made : 0;
}

std::size_t unpack_zstd(ByteView packed, std::span<std::byte> out) {
  ZSTD_DCtx* const tool = zstd_of_thread();
  if (tool == nullptr) return 0;
  ZSTD_DCtx_reset(tool, ZSTD_reset_session_only);
  ZSTD_inBuffer in{packed.data(), packed.size(), 0};
  ZSTD_outBuffer made{out.data(), out.size(), 0};
  while (made.pos < made.size) {
    const std::size_t in_before = in.pos;
    const std::size_t out_before = made.pos;
    const std::size_t result = ZSTD_decompressStream(tool, &made, &in);
    if (ZSTD_isError(result) != 0) return 0;
    if (result == 0 || (in.pos == in_before && made.pos == out_before)) break;
  }
  return made.pos;
}

}  // namespace

std::size_t inflate_block(Packing packing, ByteView packed, std::span<std::byte> out) {
  if (packing == Packing::zstd) return unpack_zstd(packed, out);
  return whole(packing, packed, out) ? out.size() : prefix(packing, packed, out);
}

}  // namespace lantern
