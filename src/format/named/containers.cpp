// Headers of virtual disks where they stand as the first bytes of a volume: so much that nobody
// takes the volume for an empty one. The readers (src/container/) look closer.
#include "format/named/named.h"

namespace lantern::named {
namespace {

using namespace std::string_view_literals;

std::optional<Recognition> image(const ByteSource&, std::uint64_t at) {
  return begins(at, 0, "virtual disk");
}

}  // namespace

std::vector<Format> containers() {
  const auto format = [](std::string_view name, std::vector<FormatMark> marks) {
    return Format{name, FormatKind::container, std::move(marks), {{0}}, image, true};
  };
  return {format("vmdk", {{0, "KDMV"sv}, {0, "COWD"sv}}),
          format("qcow", {{0, "QFI\xFB"sv}}),
          format("qed", {{0, "QED\0"sv}}),
          format("vdi", {{0x40, "\x7F\x10\xDA\xBE"sv}}),
          format("vhd", {{0, "conectix"sv}}),
          format("vhdx", {{0, "vhdxfile"sv}}),
          format("hdd", {{0, "WithoutFreeSpace"sv}, {0, "WithouFreSpacExt"sv}})};
}

}  // namespace lantern::named
