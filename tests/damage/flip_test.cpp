// For every fixed header: each bit flipped, each length cut. Whatever the disk says, reading ends,
// stays within bounds, and changes nothing.
#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "kit/thinned.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;

// Counts what is asked of it: a reader that loops asks for far more than there is.
class Counting final : public ByteSource {
 public:
  explicit Counting(SourcePtr inner) : inner_(std::move(inner)) {}
  std::uint64_t size() const override { return inner_->size(); }
  std::uint64_t bytes_read() const { return bytes_.load(); }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    bytes_ += out.size();
    const ReadResult got = inner_->read(offset, out);
    unreadable.insert(unreadable.end(), got.unreadable.begin(), got.unreadable.end());
  }

 private:
  SourcePtr inner_;
  mutable std::atomic<std::uint64_t> bytes_{0};
};

constexpr std::size_t kMaxFindings = 2'001;

// Reads everything there is to read. Returns the bytes asked of the source.
std::uint64_t read_everything(const Bytes& disk) {
  const auto source = std::make_shared<Counting>(make_memory_source(disk));
  const Context context;
  const auto visit = [&](const FileSystem& files) {
    WalkOptions all;
    all.deleted = true;
    std::uint64_t budget = 4 << 20;
    files.walk(all, [&](const Entry& entry) {
      EXPECT_TRUE(!entry.intact || (*entry.intact >= 0 && *entry.intact <= 1));
      if (entry.kind != EntryKind::file) return WalkStep::go_on;
      const Content content = files.open(entry);
      EXPECT_EQ(content.bytes->size(), entry.size_bytes);
      Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(entry.size_bytes, 65'536)));
      content.bytes->read(0, piece);
      budget -= std::min<std::uint64_t>(budget, piece.size());
      return budget > 0 ? WalkStep::go_on : WalkStep::stop;
    });
  };
  try {
    const DiskPtr view = Session({}, context).open_bytes(source, Address{"damaged", {}}, {});
    for (const VolumeLayer& volume : view->volumes)
      if (volume.file_system()) visit(*volume.file_system());
  } catch (const Error&) {
    // One clear line is an answer, too.
  }
  EXPECT_LE(context.findings->all().size(), kMaxFindings);
  return source->bytes_read();
}

// Flips every bit of disk[from, from + length) and reads everything each time.
void flip(const Bytes& disk, std::size_t from, std::size_t length) {
  Bytes damaged = disk;
  for (std::size_t at = from; at < from + length; ++at)
    for (int bit = 0; bit < 8; ++bit) {
      if (!kit::flips(at, bit)) continue;
      damaged[at] ^= static_cast<std::byte>(1 << bit);
      ASSERT_LT(read_everything(damaged), 64u << 20) << "byte " << at << " bit " << bit;
      damaged[at] = disk[at];
    }
}

void cut(const Bytes& disk, std::size_t to) {
  for (std::size_t length = 1; length <= to; length += length < 2'000 ? 1 : 97 * kit::thinned(1))
    ASSERT_LT(
        read_everything(Bytes(disk.begin(), disk.begin() + static_cast<std::ptrdiff_t>(length))),
        64u << 20)
        << "cut to " << length;
}

FatBuilder lived_in(FatBuilder::Width width) {
  FatBuilder volume(width,
                    width == FatBuilder::Width::fat12   ? 60
                    : width == FatBuilder::Width::fat16 ? 4'100
                                                        : 300,
                    512);
  volume.label("SKERROW    ");
  volume.folder(0, "Keeper", {10});
  volume.file(10, "log of the winter.txt", kit::pattern(1'500, 1), {11, 12, 13});
  volume.remove(volume.file(0, "Gannet colony.jpg", kit::pattern(1'000, 2), {20, 21}), {20, 21});
  const auto tree = volume.folder(0, "Old station", {30});
  const auto in = volume.file(30, "diary.txt", kit::pattern(600, 3), {31, 32});
  volume.remove(in, {31, 32});
  volume.remove(tree, {30});
  return volume;
}

TEST(Damage, FatBootSectorsAndFoldersAndTables) {
  for (const auto width : {FatBuilder::Width::fat12, FatBuilder::Width::fat32}) {
    FatBuilder volume = lived_in(width);
    flip(volume.bytes(), 0, 90);
    flip(volume.bytes(), volume.table_offset(0), 64);
    flip(volume.bytes(), volume.root_offset(), 11 * 32);
    flip(volume.bytes(), volume.cluster_offset(10), 5 * 32);
    cut(volume.bytes(), std::min<std::size_t>(volume.bytes().size(), 24'000));
  }
}

TEST(Damage, Fat16BootSector) {
  FatBuilder volume = lived_in(FatBuilder::Width::fat16);
  flip(volume.bytes(), 11, 32);
}

TEST(Damage, MasterBootRecordWithLogicalVolumes) {
  FatBuilder volume = lived_in(FatBuilder::Width::fat12);
  Bytes disk;
  const auto sectors = static_cast<std::uint32_t>(volume.bytes().size() / 512);
  kit::put_mbr(disk, 0, {{0x01, 8, sectors, true}, {0x05, 200, 400, false}});
  kit::put_bytes(disk, 8 * 512, volume.bytes());
  kit::put_mbr(disk, 200 * 512, {{0x01, 8, sectors, false}, {0x05, 200, 200, false}});
  kit::put_bytes(disk, 208 * 512, volume.bytes());
  kit::put_mbr(disk, 400 * 512, {{0x01, 8, sectors, false}});
  disk.resize(600 * 512);
  flip(disk, 440, 72);
  flip(disk, 200 * 512 + 446, 66);
  cut(disk, 3'000);
}

TEST(Damage, GuidPartitionTable) {
  Bytes disk(700 * 512);
  kit::put_gpt(disk, 512, {{40, 300, "Keeper"}, {301, 400, "Photographs"}});
  FatBuilder volume = lived_in(FatBuilder::Width::fat12);
  kit::put_bytes(disk, 40 * 512, volume.bytes());
  flip(disk, 512, 92);
  flip(disk, 1'024, 256);
  flip(disk, disk.size() - 512, 92);
  // The same with checksums that are right again: the figures themselves are met.
  for (std::size_t at = 512 + 24; at < 512 + 92; ++at)
    for (const int value : {0x00, 0x01, 0x7F, 0xFF}) {
      Bytes damaged = disk;
      damaged[at] = static_cast<std::byte>(value);
      kit::mend_gpt_checksum(damaged, 512);
      ASSERT_LT(read_everything(damaged), 64u << 20) << "byte " << at;
    }
  cut(disk, 3'000);
}

TEST(Damage, VdiHeaderAndMap) {
  FatBuilder volume = lived_in(FatBuilder::Width::fat12);
  kit::VdiOptions options;
  options.block_bytes = 4'096;
  const Bytes file = kit::make_vdi(volume.bytes(), options);
  flip(file, 0x40, 16);
  flip(file, 0x154, 0x40);
  flip(file, kit::kVdiMapAt, 64);
  cut(file, file.size());
}

TEST(Damage, RandomDisksOfEveryKindOfGarbage) {
  FatBuilder volume = lived_in(FatBuilder::Width::fat16);
  for (std::uint32_t seed = 0; seed < 300; ++seed) {
    Bytes damaged = volume.bytes();
    const Bytes garbage = kit::pattern(4'000, seed);
    for (std::size_t i = 0; i + 4 < garbage.size(); i += 40) {
      const std::size_t at = (std::to_integer<std::size_t>(garbage[i]) << 8 |
                              std::to_integer<std::size_t>(garbage[i + 1])) *
                             (seed % 7 + 1) % 40'000;
      if (at < 512) continue;  // keep it a FAT
      damaged[at] = garbage[i + 2];
      damaged[at + 1] = garbage[i + 3];
    }
    ASSERT_LT(read_everything(damaged), 256u << 20) << "seed " << seed;
  }
}

}  // namespace
}  // namespace lantern
