#include <bzlib.h>
#include <libdeflate.h>
#include <lzma.h>
#include <zstd.h>

#include <algorithm>
#include <memory>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr std::uint64_t kStreamPiece = 4u << 10;  // soon after it, a break is noticed
// Bytes. What is packed stops making sense soon after others stand in its place.
constexpr std::uint64_t kNoticed = 2048;
constexpr std::uint64_t kStreamProof = 4096;  // unpacked bytes

// Feeds the file piece by piece. `step` takes an input and an output buffer, says how much of the
// input it used and how much it made, and whether the content ended; it throws nothing. `cost`: of
// a byte that it makes (KindReader::spend).
struct Step {
  std::size_t used = 0, made = 0;
  bool ended = false, failed = false;
};

template <typename Unpack>
std::uint64_t unpack_stream(KindReader& file, std::uint64_t at, std::uint64_t cost, Unpack step) {
  std::vector<std::byte> out(256u << 10);
  std::uint64_t made = 0;
  std::uint64_t sound = at;  // what lies before it was unpacked
  for (bool more_out = false; at < file.size() || more_out;) {
    file.check_cancelled();
    const auto length = static_cast<std::size_t>(std::min(kStreamPiece, file.size() - at));
    const Step got = step(file.view(at, length), std::span(out));
    if (got.failed) file.broken_in({sound, at + length - sound}, "its packed bytes make no sense");
    at += got.used;
    made += got.made;
    if (got.made > 0) sound = at;
    file.spend(got.made * cost, at);
    if (made >= kStreamProof) file.prove();
    if (got.ended) return at;
    if (made > kMaxUnpacked) file.give_up(at, "it unpacks to more than is looked at");
    more_out = got.made == out.size();
    if (got.used == 0 && got.made == 0) break;
  }
  file.cut(at, "its packed bytes end before their end");
}

}  // namespace

Held check_zstd(KindReader& file) {
  const std::unique_ptr<ZSTD_DCtx, decltype(&ZSTD_freeDCtx)> context(ZSTD_createDCtx(),
                                                                     ZSTD_freeDCtx);
  if (!context) file.broken(0, "it cannot be unpacked here");
  ZSTD_DCtx_setParameter(context.get(), ZSTD_d_windowLogMax, 27);
  bool verified = true;
  std::uint64_t at = 0;
  while (at < file.size()) {
    const std::uint32_t mark = file.le32(at);
    const bool skipped = (mark & 0xFFFFFFF0u) == 0x184D2A50u;
    if (!skipped && mark != 0xFD2FB528u) {
      if (at == 0) file.broken(at, "it is no frame");
      break;
    }
    file.prove();
    constexpr unsigned kHasChecksum = 4;
    if (skipped || (file.byte(at + 4) & kHasChecksum) == 0) verified = false;
    at = unpack_stream(file, at, 2, [&](ByteView in, std::span<std::byte> out) {
      ZSTD_inBuffer source{in.data(), in.size(), 0};
      ZSTD_outBuffer target{out.data(), out.size(), 0};
      const std::size_t left = ZSTD_decompressStream(context.get(), &target, &source);
      return Step{source.pos, target.pos, left == 0, ZSTD_isError(left) != 0};
    });
  }
  return {verified, at,
          verified ? "the checksum of its content is right"
                   : "its frames fit; it has no checksum of its content",
          verified ? 0 : kNoticed};
}

Held check_xz(KindReader& file) {
  if (file.has(0, 12) && libdeflate_crc32(0, file.view(6, 2).data(), 2) == file.le32(8))
    file.prove();
  lzma_stream stream = LZMA_STREAM_INIT;
  constexpr std::uint64_t kMemory = 256u << 20;
  if (::lzma_stream_decoder(&stream, kMemory, LZMA_TELL_NO_CHECK) != LZMA_OK)
    file.broken(0, "it cannot be unpacked here");
  const std::unique_ptr<lzma_stream, decltype(&::lzma_end)> held(&stream, ::lzma_end);
  bool verified = true;
  const std::uint64_t end = unpack_stream(file, 0, 10, [&](ByteView in, std::span<std::byte> out) {
    stream.next_in = reinterpret_cast<const std::uint8_t*>(in.data());
    stream.avail_in = in.size();
    stream.next_out = reinterpret_cast<std::uint8_t*>(out.data());
    stream.avail_out = out.size();
    lzma_ret state = ::lzma_code(&stream, LZMA_RUN);
    if (state == LZMA_NO_CHECK) {
      verified = false;
      state = ::lzma_code(&stream, LZMA_RUN);
    }
    return Step{in.size() - stream.avail_in, out.size() - stream.avail_out,
                state == LZMA_STREAM_END,
                state != LZMA_OK && state != LZMA_STREAM_END && state != LZMA_BUF_ERROR};
  });
  return {verified, end,
          verified ? "the checksums of its content are right"
                   : "its blocks fit; it has no checksum of its content",
          verified ? 0 : kNoticed};
}

Held check_bzip2(KindReader& file) {
  std::uint64_t at = 0;
  while (at < file.size()) {
    if (!file.starts(at, "BZh")) {
      if (at == 0) file.broken(at, "it has no header");
      return {true, at, "the checksum is right; other bytes follow"};
    }
    if (file.starts(at + 4, "1AY&SY")) file.prove();
    bz_stream stream{};
    if (::BZ2_bzDecompressInit(&stream, 0, 0) != BZ_OK)
      file.broken(at, "it cannot be unpacked here");
    const std::unique_ptr<bz_stream, decltype(&::BZ2_bzDecompressEnd)> held(&stream,
                                                                            ::BZ2_bzDecompressEnd);
    at = unpack_stream(file, at, 30, [&](ByteView in, std::span<std::byte> out) {
      // The library takes what it does not change as if it might.
      stream.next_in = const_cast<char*>(reinterpret_cast<const char*>(in.data()));
      stream.avail_in = static_cast<unsigned>(in.size());
      stream.next_out = reinterpret_cast<char*>(out.data());
      stream.avail_out = static_cast<unsigned>(out.size());
      const int state = ::BZ2_bzDecompress(&stream);
      return Step{in.size() - stream.avail_in, out.size() - stream.avail_out,
                  state == BZ_STREAM_END, state != BZ_OK && state != BZ_STREAM_END};
    });
  }
  return {true, at, "the checksum of every block is right"};
}

}  // namespace lantern::kinds
