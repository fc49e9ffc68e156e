// DMG: a disk of an Apple system in chunks, packed one by one. Big-endian. Known by its end.
//   the last 512 bytes: 0 "koly"  4 4 version, 4  0x18 8, 0x20 8 data: offset, bytes
//     0x3C 4 files it is cut into  0xD8 8, 0xE0 8 XML: offset, bytes  0x1EC 8 sectors of the disk
//   XML, a property list: resource-fork, blkx, and of each part "Data", in base64:
//     0 "mish"  8 8 first sector  0x10 8 sectors  0x18 8 offset in the data  0xC8 4 chunks
//     0xCC and every 40: 0 4 kind  8 8 first sector, of the part  0x10 8 sectors  0x18 8 offset
//     0x20 8 bytes; kinds: 0, 2 zero  1 as it is  80000005 zlib  7FFFFFFE a comment  FFFFFFFF the
//     end
// Source: there is no published standard; as the hypervisor's documented reader takes it.
#pragma once

#include <optional>

#include "lantern/container.h"
#include "lantern/format/recognition.h"

namespace lantern {

// A trailer at this byte, for the registry.
std::optional<Recognition> probe_dmg(const ByteSource& source, std::uint64_t at);

// Empty when `file` is not one. Throws Error{cannot_read, unsupported}.
std::optional<Container> open_dmg(const SourcePtr& file, const Surroundings& around,
                                  const Context& context);

}  // namespace lantern
