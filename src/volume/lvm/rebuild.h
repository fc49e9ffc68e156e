// What a physical volume has lost of its own head, from what its group records of it: the label,
// and the header of its metadata area. See header.h for the layout.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <string>

#include "base/bytes.h"
#include "volume/lvm/group.h"

namespace lantern::lvm {

constexpr std::uint64_t kLabelAt = 512, kUsualAreaAt = 4096;  // bytes of a physical volume

// A sector: the label of `volume`, with a metadata area of `area_bytes`. `like`: the label of
// another physical volume of the group, which says which edition it is of; may be empty.
Bytes label_for(const PhysicalVolume& volume, std::uint64_t area_bytes, ByteView like);

// The label in a sector with another size of its device, summed again. False: the sector holds
// no label.
bool set_device_bytes(Bytes& label, std::uint64_t device_bytes);

// Bytes of the metadata area that the label in a sector leads to; 0: it leads to none.
std::uint64_t area_bytes_in(ByteView label);

// A sector: the header of a metadata area that begins at `place` and leads to `text`, which lies at
// `text_at` of the area.
Bytes area_header(std::uint64_t place, std::uint64_t area_bytes, const std::string& text,
                  std::uint64_t text_at);

}  // namespace lantern::lvm
