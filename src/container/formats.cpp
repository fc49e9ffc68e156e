#include "container/formats.h"

#include "container/dmg.h"
#include "container/hdd/hard_disk.h"
#include "container/qcow/layout.h"
#include "container/qcow/qcow2.h"
#include "container/qed.h"
#include "container/vdi/vdi.h"
#include "container/vhd/layout.h"
#include "container/vhd/vhd.h"
#include "container/vhdx/layout.h"
#include "container/vhdx/vhdx.h"
#include "container/vmdk/layout.h"
#include "container/vmdk/vmdk.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

// A header where it stands as the first bytes of a volume: so much that nobody takes the volume for
// an empty one. The readers look closer.
std::optional<Recognition> probe_image(const ByteSource&, std::uint64_t at) {
  Recognition found;
  found.title = "virtual disk";
  found.range.offset = at;
  return found;
}

using Open = std::optional<Container> (*)(const SourcePtr&, const Surroundings&, const Context&);

template <Open First, Open Second>
std::optional<Container> either(const SourcePtr& file, const Surroundings& around,
                                const Context& context) {
  auto container = First(file, around, context);
  return container ? std::move(container) : Second(file, around, context);
}

Format format(std::string_view name, std::vector<FormatMark> marks, Open open,
              Open headless = nullptr) {
  Format format{name, FormatKind::container, std::move(marks), {{0}}, probe_image, true};
  format.open_container = open;
  format.open_headless = headless;
  return format;
}

}  // namespace

std::vector<Format> container_formats() {
  // The last two are known by their end, which any other may end in.
  Format dmg = format("dmg", {{0, "koly"sv}}, open_dmg);
  dmg.places = {{512, true, 1}};
  dmg.probe = probe_dmg;
  return {format("vdi", {{0x40, "\x7F\x10\xDA\xBE"sv}}, open_vdi, open_headless_vdi),
          format("vmdk", {{0, vmdk::kMark}, {0, vmdk::server::kMark}}, open_vmdk),
          format("qcow", {{0, qcow::kMark}}, either<open_qcow2, open_qcow1>, open_headless_qcow2),
          format("qed", {{0, "QED\0"sv}}, open_qed, open_headless_qed),
          format("hdd", {{0, "WithoutFreeSpace"sv}, {0, "WithouFreSpacExt"sv}},
                 either<open_hard_disk, open_hard_disk_folder>),
          format("vhdx", {{0, vhdx::kMark}}, open_vhdx),
          dmg,
          format("vhd", {{0, vhd::footer::kMark}}, open_vhd)};
}

}  // namespace lantern
