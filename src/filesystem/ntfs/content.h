// Contents of files: as they lie, with holes, compressed; and of deleted ones, what is left.
//
// Thread-safety: any thread.
#pragma once

#include "filesystem/ntfs/bitmap.h"
#include "filesystem/ntfs/census.h"
#include "lantern/file_system.h"

namespace lantern::ntfs {

// Whose clusters are whose, for deleted files. Refers to both it is made of.
class Owners {
 public:
  Owners(const ClusterBitmap& bitmap, const Census& census) : bitmap_(bitmap), census_(census) {}

  enum class Verdict {
    own,
    gone,     // in use, by another
    disputed  // another deleted file claims it, too
  };
  // Parts of a run of clusters, in order.
  void judge(Range clusters, const std::function<void(Range, Verdict)>& visit) const;

 private:
  const ClusterBitmap& bitmap_;
  const Census& census_;
};

// `owners`: of a deleted file's; empty for one in use.
Content content_of(const Volume& volume, const Stream& stream, const Owners* owners);

// A file the system packed: `size` bytes in chunks of a known way, kept in `packed`.
Content unpacked_by_system(const Volume& volume, const Stream& packed, std::uint64_t size_bytes,
                           std::uint32_t packing, const Owners* owners);

}  // namespace lantern::ntfs
