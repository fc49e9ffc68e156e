// One kind of image being written. Blocks come in the order of the disk; those that are all zero do
// not come. Thread-safety: put and finish belong to one thread; pack may be called from any.
#pragma once

#include <memory>
#include <string>

#include "base/bytes.h"
#include "lantern/imaging.h"
#include "recover/image/output_file.h"

namespace lantern {

class ImageWriter {
 public:
  ImageWriter() = default;
  ImageWriter(const ImageWriter&) = delete;
  ImageWriter& operator=(const ImageWriter&) = delete;
  virtual ~ImageWriter() = default;

  virtual std::uint64_t block_bytes() const = 0;
  // Whether blocks are packed before put: then put is given what pack made.
  virtual bool packs() const { return false; }
  virtual Bytes pack(ByteView block) const;
  // `bytes`: a whole block, or what pack made of one; the disk's last block is filled with zeros.
  virtual void put(std::uint64_t block, ByteView bytes) = 0;
  virtual void finish() = 0;
};

std::unique_ptr<ImageWriter> make_raw_writer(OutputFile& out, std::uint64_t disk_bytes);
std::unique_ptr<ImageWriter> make_vdi_writer(OutputFile& out, std::uint64_t disk_bytes);
std::unique_ptr<ImageWriter> make_vhd_writer(OutputFile& out, std::uint64_t disk_bytes, bool fixed);
std::unique_ptr<ImageWriter> make_vhdx_writer(OutputFile& out, std::uint64_t disk_bytes);
std::unique_ptr<ImageWriter> make_vmdk_writer(OutputFile& out, std::uint64_t disk_bytes,
                                              const std::string& name);
std::unique_ptr<ImageWriter> make_vmdk_stream_writer(OutputFile& out, std::uint64_t disk_bytes,
                                                     const std::string& name);
// `original` empty: a disk of its own.
std::unique_ptr<ImageWriter> make_qcow2_writer(OutputFile& out, std::uint64_t disk_bytes,
                                               bool packed, const std::string& original,
                                               const std::string& original_format);

// A random id, RFC 9562 version 4.
Bytes new_guid();

// A block packed by RFC 1950 (zlib) or 1951 (deflate); as it is when that is no longer.
Bytes deflate_block(ByteView block, bool zlib);

}  // namespace lantern
