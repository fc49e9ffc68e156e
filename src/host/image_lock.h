// The lock by which a machine is kept from starting on a disk that others read: byte ranges of the
// image file that the open-source hypervisor locks as well. At 100 stands who reads (0), writes
// (1), resizes (3); at 200 who lets nobody else do that. Source: QEMU's documentation "Disk image
// file locking" and open file description locks, fcntl(2).
//
// Thread-safety: one thread an object.
#pragma once

#include <string>
#include <vector>

namespace lantern {

class ImageLock {
 public:
  ImageLock() = default;
  ~ImageLock();
  ImageLock(const ImageLock&) = delete;
  ImageLock& operator=(const ImageLock&) = delete;

  // Holds a file for as long as this lives: it is read here, and nobody is to write to it. What is
  // no regular file, or takes no locks, is passed over. Throws Error{refused} when a machine has it
  // open for writing.
  void hold(const std::string& path);

 private:
  std::vector<int> descriptors_;
};

}  // namespace lantern
