// A disk without its free space: what the maps of its file systems call free reads as zero, so that
// an image of it is small. What was deleted cannot be found in such an image.
//
//   const WithoutFree less =
//       leave_out_free(session.open(Address::parse("station.vdi")), context);
//   write_image(less.bytes, "COPY.raw", {}, context);
//
// Thread-safety: may be called from any thread; a WithoutFree is a value.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/nest/target.h"

namespace lantern {

struct FreeSpace {
  std::string volume;  // its address
  std::uint64_t left_out_bytes = 0;
  std::string kept_whole;  // why nothing of it was left out; else empty
};

struct WithoutFree {
  SourcePtr bytes;
  std::vector<FreeSpace> volumes;
};

// Of a disk or a volume. A volume is kept whole unless its file system is read without damage, was
// unmounted, and no active file lies where its map says free; so is what no file system is known
// for. Walks all active files. Throws Error{usage} for a file, Error{stopped}.
WithoutFree leave_out_free(const Target& target, const Context& context);

}  // namespace lantern
