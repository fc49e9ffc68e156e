// A run of an encrypted volume, decrypted as it is read, encrypted as it is written.
//
// Thread-safety: the source may be read from any thread.
#pragma once

#include "lantern/byte_source.h"
#include "volume/luks/cipher.h"

namespace lantern::luks {

// `range` of the volume, in sectors of so many bytes; start values count in sectors of 512 from
// `first_number` on.
SourcePtr make_decrypted(SourcePtr volume, Range range, std::uint64_t sector_bytes,
                         std::uint64_t first_number, SectorCipher cipher);

constexpr std::string_view kDecrypted = "decrypted";

}  // namespace lantern::luks
