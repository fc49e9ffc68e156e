// The segments of a JPEG, from any of them on. ITU-T T.81, annex B.
//
// Thread-safety: as the reader.
#pragma once

#include "contents/pictures/jpeg_scan.h"

namespace lantern::kinds {

// `scan` has the tables and the frame that stand before `at`. Throws Break.
Held walk_jpeg(KindReader& file, JpegScan& scan, std::uint64_t at);

}  // namespace lantern::kinds
