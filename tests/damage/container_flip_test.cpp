// For every small container of the fuzz corpus: each bit of its first kilobyte flipped, each length
// cut. Reading ends, stays within bounds, and says so in few findings.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>

#include "kit/bytes.h"
#include "kit/thinned.h"
#include "lantern/container.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::size_t kFlipped = 1024;
constexpr std::size_t kMaxFindings = 2'001;

// Opens, reads the start and the end, walks some extents. True when it opened.
bool read_through(const Bytes& file) {
  Context context;
  context.threads = 1;
  bool opened = false;
  try {
    const Container disk = open_container(make_memory_source(file), {}, context);
    opened = disk.format != "raw";
    Bytes piece(16'384);
    disk.flat->read(0, piece);
    disk.flat->read(disk.flat->size() / 2, piece);
    std::uint64_t at = 0;
    std::size_t seen = 0;
    disk.flat->extents({0, disk.flat->size()}, [&](const Extent& extent) {
      EXPECT_EQ(extent.range.offset, at) << "extents leave no gap";
      at = extent.range.end();
      return ++seen < 100;
    });
  } catch (const Error&) {
    // One clear line is an answer, too.
  }
  EXPECT_LE(context.findings->all().size(), kMaxFindings);
  return opened;
}

class ContainerDamage : public ::testing::TestWithParam<std::filesystem::path> {};

TEST_P(ContainerDamage, EveryBitOfTheHeaderFlipped) {
  const Bytes whole = kit::read_file(GetParam().string());
  ASSERT_TRUE(read_through(whole)) << "the disk itself opens";
  Bytes damaged = whole;
  for (std::size_t at = 0; at < std::min(kFlipped, whole.size()); ++at)
    for (int bit = 0; bit < 8; ++bit) {
      if (!kit::flips(at, bit)) continue;
      damaged[at] ^= static_cast<std::byte>(1 << bit);
      read_through(damaged);
      damaged[at] = whole[at];
    }
}

TEST_P(ContainerDamage, EveryLengthCut) {
  const Bytes whole = kit::read_file(GetParam().string());
  for (std::size_t length = 0; length < whole.size();
       length += length < kFlipped ? 1 : 113 * kit::thinned(1))
    read_through(Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(length)));
}

std::vector<std::filesystem::path> small_containers() {
  std::vector<std::filesystem::path> files;
  for (const char* kind : {"vdi", "vhd", "vmdk", "qcow2", "qcow1", "qed", "dmg", "hdd"})
    for (const auto& entry :
         std::filesystem::directory_iterator(std::filesystem::path(LANTERN_CORPUS) / kind))
      // Inputs the fuzzer found have hashes for names; the disks laid by hand have words.
      if (entry.path().filename().string().size() < 20) files.push_back(entry.path());
  std::sort(files.begin(), files.end());
  return files;
}

INSTANTIATE_TEST_SUITE_P(All, ContainerDamage, ::testing::ValuesIn(small_containers()),
                         [](const auto& file) {
                           std::string name = file.param.parent_path().filename().string() + "_" +
                                              file.param.filename().string();
                           std::replace(name.begin(), name.end(), '-', '_');
                           return name;
                         });

}  // namespace
}  // namespace lantern
