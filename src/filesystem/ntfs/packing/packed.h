// Files the system packed to save room: their content is a stream "WofCompressedData" in chunks,
// their own one a hole. Little-endian.
//   stream: for each chunk but the first where it begins, 4 bytes (8 when the file is of 4 GiB and
//     more) counted from behind this table; then the chunks. One as long as what it holds is not
//     packed.
// Sources: [MS-XCA] Xpress Compression Algorithm, 2.1 and 2.2; [MS-PATCH] LZX DELTA Compression
// and Decompression, 2, without its header and with a window of 32 KiB.
//
// Thread-safety: pure functions.
#pragma once

#include <optional>
#include <span>

#include "base/bytes.h"

namespace lantern::ntfs {

enum class Packing : std::uint32_t { xpress_4k = 0, lzx = 1, xpress_8k = 2, xpress_16k = 3 };

// Bytes a chunk holds; empty: not a way that is known.
std::optional<std::uint64_t> chunk_bytes(std::uint32_t packing);

// Fill `out`, which is as long as the chunk holds. False: the input is none that can be; what was
// made until then stands in `out`.
bool unpack_xpress(ByteView in, std::span<std::byte> out);
bool unpack_lzx(ByteView in, std::span<std::byte> out);

}  // namespace lantern::ntfs
