#include "recover/image/writer.h"

#include <libdeflate.h>
#include <openssl/rand.h>

#include "lantern/error.h"

namespace lantern {
namespace {

constexpr int kLevel = 6;

struct FreeCompressor {
  void operator()(libdeflate_compressor* c) const { libdeflate_free_compressor(c); }
};

libdeflate_compressor* compressor_of_thread() {
  thread_local const std::unique_ptr<libdeflate_compressor, FreeCompressor> one(
      libdeflate_alloc_compressor(kLevel));
  if (!one)
    throw Error(ErrorCode::cannot_write, {}, std::nullopt, "there is no memory to pack blocks");
  return one.get();
}

class RawWriter final : public ImageWriter {
 public:
  RawWriter(OutputFile& out, std::uint64_t disk_bytes) : out_(out), disk_bytes_(disk_bytes) {}

  std::uint64_t block_bytes() const override { return kBlock; }

  void put(std::uint64_t block, ByteView bytes) override {
    const std::uint64_t at = block * kBlock;
    const auto length =
        static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), disk_bytes_ - at));
    out_.write(at, bytes.first(length));
  }

  void finish() override { out_.set_length(disk_bytes_); }

 private:
  static constexpr std::uint64_t kBlock = 64u << 10;
  OutputFile& out_;
  std::uint64_t disk_bytes_;
};

}  // namespace

Bytes ImageWriter::pack(ByteView block) const {
  return Bytes(block.begin(), block.end());
}

std::unique_ptr<ImageWriter> make_raw_writer(OutputFile& out, std::uint64_t disk_bytes) {
  return std::make_unique<RawWriter>(out, disk_bytes);
}

Bytes new_guid() {
  Bytes id(16);
  if (RAND_bytes(reinterpret_cast<unsigned char*>(id.data()), static_cast<int>(id.size())) != 1)
    throw Error(ErrorCode::cannot_write, {}, std::nullopt, "the system gives no random numbers");
  // In the mixed order disks keep ids in, the version stands in the eighth byte.
  id[7] = (id[7] & std::byte{0x0F}) | std::byte{0x40};
  id[8] = (id[8] & std::byte{0x3F}) | std::byte{0x80};
  return id;
}

Bytes deflate_block(ByteView block, bool zlib) {
  Bytes packed(block.size());
  auto* const tool = compressor_of_thread();
  const std::size_t length = zlib ? libdeflate_zlib_compress(tool, block.data(), block.size(),
                                                             packed.data(), packed.size())
                                  : libdeflate_deflate_compress(tool, block.data(), block.size(),
                                                                packed.data(), packed.size());
  if (length == 0) return Bytes(block.begin(), block.end());
  packed.resize(length);
  return packed;
}

}  // namespace lantern
