// Every kind of image we write joins the contract of byte sources when it is read back.
#include <algorithm>

#include "contract/byte_source_contract.h"
#include "kit/disk_builder.h"
#include "lantern/container.h"
#include "lantern/imaging.h"

namespace lantern {
namespace {

using kit::Bytes;

// Nine blocks of the largest kind are not needed: pieces with holes between, the last one not full.
constexpr std::size_t kSize = 586 * 512;

Bytes holed() {
  Bytes bytes = kit::pattern(kSize, 9);
  std::fill(bytes.begin() + 70'000, bytes.begin() + 210'000, std::byte{0});
  return bytes;
}

SourcePtr image(ImageKind kind, const kit::Folder& folder, const Context& context) {
  const std::string path = folder / "disk";
  write_image(make_memory_source(holed()), path, {kind, false, {}, {}}, context);
  return open_container(open_file_source(path, context), {}, context).flat;
}

SourceCase of_kind(ImageKind kind) {
  std::string name(to_string(kind));
  std::replace(name.begin(), name.end(), '-', '_');
  return {name,
          [kind](const kit::Folder& folder, const Context& context) {
            return image(kind, folder, context);
          },
          holed(),
          {}};
}

// Laid by hand; no writer of it is here.
SourceCase dmg() {
  const Bytes image = kit::read_file(LANTERN_CORPUS "/dmg/two-parts");
  return {"dmg",
          [image](const kit::Folder&, const Context& context) {
            return open_container(make_memory_source(image), {}, context).flat;
          },
          kit::read_all(*open_container(make_memory_source(image), {}, Context()).flat),
          {}};
}

INSTANTIATE_TEST_SUITE_P(Images, ByteSourceContract,
                         ::testing::Values(of_kind(ImageKind::raw), of_kind(ImageKind::vmdk),
                                           of_kind(ImageKind::vmdk_stream), of_kind(ImageKind::vdi),
                                           of_kind(ImageKind::vhd), of_kind(ImageKind::vhd_fixed),
                                           of_kind(ImageKind::vhdx), of_kind(ImageKind::qcow2),
                                           of_kind(ImageKind::qcow2_compressed), dmg()),
                         [](const auto& each) { return each.param.name; });

}  // namespace
}  // namespace lantern
