// What is written beside an image: how far it is while it is made, and in the end what it is.
#pragma once

#include <optional>
#include <string>

#include "lantern/imaging.h"
#include "lantern/sources.h"

namespace lantern {

struct ImageRecord {
  ImageKind kind = ImageKind::raw;
  Identity source;
  std::uint64_t done_bytes = 0;
  ImageSummary summary;
};

// Replaces `path` in one step. Throws Error{cannot_write, stopped (no room)}.
void write_image_record(const std::string& path, const ImageRecord& record);

// Empty when there is none, or none that can be read.
std::optional<ImageRecord> read_image_record(const std::string& path);

}  // namespace lantern
