// Zeros in the place of a deleted file: discarded by the drive, or the file's own.
//
// A drive discards what was freed in whole runs. Where data is left between two stretches of zeros
// of one run, nothing was discarded there: the zeros are the file's own, as those of a disk image.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>

namespace lantern {

class DiscardedBytes {
 public:
  // The next run of clusters, which does not follow the one before.
  void next_run() { zeros_seen_ = data_since_ = false; }
  // The next bytes of it; `stored`: the layers below hold them, and do not only know them for zero.
  void add(std::uint64_t length, bool stored) {
    if (stored) {
      data_since_ = zeros_seen_;
      return;
    }
    own_ = own_ || data_since_;
    zeros_seen_ = true;
    data_since_ = false;
    bytes_ += length;
  }
  std::uint64_t bytes() const { return own_ ? 0 : bytes_; }

 private:
  bool zeros_seen_ = false, data_since_ = false, own_ = false;
  std::uint64_t bytes_ = 0;
};

}  // namespace lantern
