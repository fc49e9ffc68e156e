// Imaging: a disk, or any layer of one, written as an image of a chosen kind. What is zero is not
// stored, what cannot be read becomes zero and is listed.
//
//   ImageOptions as;
//   as.kind = ImageKind::qcow2;
//   const ImageSummary done = write_image(disk->bytes, "COPY.qcow2", as, context);
//
// Thread-safety: one call writes one image; calls for different outputs may run at once.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/address.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

enum class ImageKind {
  raw,          // the bytes themselves, with holes
  vmdk,         // monolithic sparse
  vmdk_stream,  // packed, written in one go
  vdi,          // dynamic
  vhd,          // dynamic
  vhd_fixed,
  vhdx,              // dynamic
  qcow2,             // version 3
  qcow2_compressed,  // version 3, deflate
  qcow2_child        // an empty child of the untouched original
};

// "raw", "vmdk-stream", ...; empty when there is no such kind.
std::optional<ImageKind> image_kind(std::string_view name);
std::string_view to_string(ImageKind kind);

struct ImageOptions {
  ImageKind kind = ImageKind::raw;
  bool hash = true;
  // For qcow2_child: the original as the child names it, and its format ("raw", "vdi", ...).
  std::string original;
  std::string original_format;
};

// How an image at `child` names the original it is to lie on. Throws Error{usage} when `original`
// is not a whole image file.
ImageOptions child_of(const Address& original, const std::string& original_format,
                      const std::string& child);

struct ImageSummary {
  std::uint64_t disk_bytes = 0;
  std::uint64_t stored_bytes = 0;  // of the disk that were not zero
  std::string sha256;  // of the flat contents, lost ranges as zeros; empty: not asked for
  std::vector<Range> unreadable;  // bytes of the disk
  bool resumed = false;           // an earlier run was taken up
  bool stopped = false;           // run again to go on, or to start again where the kind needs it
  std::string why_stopped;        // in words: the disk is full, the command was stopped
};

// Writes `out` by way of "OUT.part", and beside it "OUT.json" with size, hash and what could not be
// read. raw and vhd_fixed go on where an earlier run for the same source stopped; the others begin
// again. Nothing that is there is replaced. Throws Error{refused, cannot_write, unsupported}.
ImageSummary write_image(const SourcePtr& disk, const std::string& out, const ImageOptions& options,
                         const Context& context);

}  // namespace lantern
