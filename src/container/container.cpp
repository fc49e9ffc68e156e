#include "lantern/container.h"

#include "base/bytes.h"
#include "container/hard_disk.h"
#include "container/qcow/qcow2.h"
#include "container/qed.h"
#include "container/vdi.h"
#include "container/vhd.h"
#include "container/vhdx/vhdx.h"
#include "container/vmdk/vmdk.h"
#include "source/given.h"

namespace lantern {
namespace {

// Boot code, or the mark at the end of a boot record.
bool begins_like_a_disk(const ByteSource& file) {
  Bytes sector(512);
  if (file.read(0, sector).length < sector.size()) return true;
  return le16(sector, 510) == 0xAA55;
}

}  // namespace

Container open_container(const SourcePtr& file, const Surroundings& around,
                         const Context& context) {
  given(file);
  // VHD comes last: it is known by its end, which any other may end in.
  for (const auto open : {open_vdi, open_vmdk, open_qcow2, open_qcow1, open_qed, open_hard_disk,
                          open_hard_disk_folder, open_vhdx, open_vhd})
    if (auto container = open(file, around, context)) return std::move(*container);
  // A known volume or table at the start is no container without its header.
  if (!begins_like_a_disk(*file) && !(around.is_volume && around.is_volume(file)))
    for (const auto open : {open_headless_vdi, open_headless_qcow2, open_headless_qed})
      if (auto container = open(file, around, context)) return std::move(*container);
  Container raw;
  raw.flat = file;
  raw.stored_bytes = file->size();
  return raw;
}

}  // namespace lantern
