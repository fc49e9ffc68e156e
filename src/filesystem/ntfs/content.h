// Contents of files: as they lie, with holes, compressed; and of deleted ones, what is left.
//
// Thread-safety: any thread.
#pragma once

#include "filesystem/ntfs/bitmap.h"
#include "filesystem/ntfs/volume_index.h"
#include "lantern/file_system.h"

namespace lantern::ntfs {

// Whose clusters are whose, for deleted files. Refers to both it is made of.
class Owners {
 public:
  Owners(const ClusterBitmap& bitmap, const VolumeIndex& index) : bitmap_(bitmap), index_(index) {}

  enum class Verdict {
    own,
    gone,     // in use, by another
    disputed  // another deleted file claims it, too, and neither is known to be the later
  };
  // Visits parts of a run of clusters of a deleted file, in order.
  using Visitor = std::function<void(Range, Verdict)>;
  void judge(const File& file, Range clusters, const Visitor& visit) const;

 private:
  void judge_disputed(const File& file, Range clusters, const Visitor& visit) const;

  const ClusterBitmap& bitmap_;
  const VolumeIndex& index_;
};

// What is left of a run of clusters, of the one file it was made for; empty: all of it, for the
// file is in use.
using Judge = std::function<void(Range clusters, const Owners::Visitor& visit)>;

Content content_of(const Volume& volume, const Stream& stream, const Judge& judge);

// A file the system packed: `size` bytes in chunks of a known way, kept in `packed`.
Content unpacked_by_system(const Volume& volume, const Stream& packed, std::uint64_t size_bytes,
                           std::uint32_t packing, const Judge& judge);

}  // namespace lantern::ntfs
