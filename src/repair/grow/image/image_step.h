// The step that makes the disk of an image file larger, while it is put together.
//
// Thread-safety: one thread.
#pragma once

#include <string>

#include "base/bytes.h"

#include "lantern/nest/session.h"
#include "lantern/repair.h"

namespace lantern::repair {

class ImageStep {
 public:
  // `to_bytes`: of the disk.
  ImageStep(const DiskLayer& of, std::uint64_t to_bytes);

  const DiskLayer& disk;
  const ByteSource& file;  // as it lies
  std::uint64_t to;        // bytes; a format whose sizes have steps raises it
  RepairStep step;

  // Of the image file itself: where it differs, and behind what is there.
  void change(std::uint64_t at, const Bytes& before, const Bytes& after);
  void write(std::uint64_t at, Bytes after);
  // The file ends here at least; what is added is a hole.
  void reach(std::uint64_t end);
  // A table of `entry_bytes` an entry, of which some are added that are all `fill`.
  void add_entries(std::uint64_t table, std::uint64_t had, std::uint64_t count,
                   std::size_t entry_bytes, std::byte fill);
  Bytes read(std::uint64_t at, std::size_t length) const;

  [[noreturn]] void refuse(const std::string& what, const std::string& next) const;
  [[noreturn]] void not_yet() const;
  // The format has no larger disks.
  void need_at_most(std::uint64_t bytes) const;

 private:
  std::string address_;
};

// Each one kind of image, whole and without a parent or snapshots.
void grow_qcow2(ImageStep& image, const Context& context);
void grow_vdi(ImageStep& image);
void grow_vhd(ImageStep& image);
void grow_vhdx(ImageStep& image, const Context& context);
void grow_vmdk(ImageStep& image);

}  // namespace lantern::repair
