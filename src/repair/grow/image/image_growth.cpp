#include "repair/grow/image/image_growth.h"

#include <fmt/format.h>

#include <filesystem>

#include "lantern/text.h"
#include "repair/grow/image/image_step.h"

namespace lantern::repair {
namespace {

void grow_raw(ImageStep& image) {
  std::error_code error;
  if (!image.disk.address.steps.empty() ||
      !std::filesystem::is_regular_file(image.disk.address.first, error))
    image.refuse("is no image file of its own: its size is not to be changed here",
                 "leave the size out, and the volume takes the room behind it");
  image.step.evidence = "a raw image is as long as its disk; what is added is a hole";
  image.reach(image.to);
}

void need_no_other(const ImageStep& image) {
  const Container& container = image.disk.container;
  if (!container.versions.empty())
    image.refuse("the image has snapshots, which are as large as the disk was",
                 "make a copy that has none: lantern image writes one");
  // Behind the end of its parent a QCOW2 is zeros; the other formats' children are as large.
  if (!container.chain.empty() && container.format != "qcow2")
    image.refuse("the image is based on another, which would stay as large as it is",
                 "make a copy of its own: lantern image writes one");
}

}  // namespace

RepairStep grow_image(const DiskLayer& disk, std::uint64_t to_bytes, const Context& context) {
  ImageStep image(disk, to_bytes);
  need_no_other(image);
  const std::string& format = disk.container.format;
  if (format == "raw")
    grow_raw(image);
  else if (format == "qcow2")
    grow_qcow2(image, context);
  else if (format == "vdi")
    grow_vdi(image);
  else if (format == "vhd")
    grow_vhd(image);
  else if (format == "vhdx")
    grow_vhdx(image, context);
  else if (format == "vmdk")
    grow_vmdk(image);
  else
    image.not_yet();
  image.step.what = fmt::format("the disk becomes {} instead of {}", human_size(image.to),
                                human_size(disk.bytes->size()));
  // A file that holds what was written does not look larger.
  if (disk.container.stored_bytes < image.to && format != "raw")
    image.step.what += fmt::format("; its file has {}", human_size(disk.container.stored_bytes));
  return std::move(image.step);
}

}  // namespace lantern::repair
