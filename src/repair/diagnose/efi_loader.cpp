// A deleted default loader of an EFI system partition: its folder slot and its chain in each FAT,
// where all of its clusters are still free (layouts: filesystem/fat/slots.h, table.h).
#include <fmt/format.h>

#include <charconv>

#include "filesystem/fat/fit.h"
#include "lantern/text.h"
#include "nest/start/chain_builder.h"
#include "repair/diagnose/fat_entry.h"
#include "repair/diagnose/volume_diagnosis.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kMaxTable = 64u << 20;
constexpr std::uint64_t kMaxLoader = 64u << 20;
constexpr std::size_t kHighClusterAt = 20;
// Of FAT32: which sector counts the free clusters, and where in it.
constexpr std::size_t kInfoSectorAt = 48, kInfoMarkAt = 484, kFreeCountAt = 488;
constexpr std::uint32_t kInfoMark = 0x61417272;

class EfiLoader : VolumeDiagnosis {
 public:
  EfiLoader(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis)
      : VolumeDiagnosis(disk, volume, diagnosis) {}

  void run() {
    const FileSystem* const files = volume_.file_system().get();
    if (files == nullptr || !start::has_efi_folder(*files)) return;
    const auto loader = start::default_loader(*files);
    if (!loader || !loader->is_deleted() || loader->entry.intact != 1 ||
        loader->entry.size_bytes == 0 || loader->entry.size_bytes > kMaxLoader)
      return;
    boot_ = read_bytes(bytes_, 0, kSector);
    const auto geometry = boot_.size() == kSector ? fat::parse_boot_sector(boot_) : std::nullopt;
    if (!geometry || geometry->table_bytes > kMaxTable) return;
    geometry_ = *geometry;
    const Content content = files->open(loader->entry);
    if (!start::is_uefi_program(start::read_at(*content.bytes, 0, 4096))) return;
    if (find_clusters(*content.bytes)) undelete(*loader);
  }

 private:
  // Where its content lies, as far as that is whole clusters of this volume.
  bool find_clusters(const ByteSource& content) {
    bool good = true;
    content.extents({0, content.size()}, [&](const Extent& extent) {
      if (extent.inputs.empty()) return good = false;
      for (std::uint64_t at = 0; at < extent.range.length; at += geometry_.cluster_bytes) {
        const std::uint64_t place = extent.below().offset + at;
        const bool fits = extent.kind == ExtentKind::direct && place >= geometry_.data_offset &&
                          (place - geometry_.data_offset) % geometry_.cluster_bytes == 0;
        const auto cluster = static_cast<std::uint32_t>(
            fits ? (place - geometry_.data_offset) / geometry_.cluster_bytes + 2 : 0);
        good = good && geometry_.valid_cluster(cluster);
        if (good) clusters_.push_back(cluster);
      }
      return good;
    });
    return good && !clusters_.empty();
  }

  void undelete(const start::LoaderFile& loader) {
    RepairStep step{0,
                    "fat.efi-loader",
                    Certainty::likely,
                    fmt::format("undeletes {}", for_terminal(loader.path)),
                    fmt::format("firmware starts this file; it was deleted, its content is a UEFI "
                                "program, and all of its {} are free",
                                counted(clusters_.size(), "cluster")),
                    {},
                    {}};
    if (slot(loader.entry, step) && chains(step)) {
      free_count(step);
      add(std::move(step));
    }
  }

  // The first letter of its name, and the half of its first cluster that some systems wipe.
  bool slot(const Entry& entry, RepairStep& step) const {
    std::uint64_t at = 0;
    const auto [end, error] =
        std::from_chars(entry.id.data(), entry.id.data() + entry.id.size(), at);
    if (error != std::errc() || end != entry.id.data() + entry.id.size()) return false;
    const Bytes before = read_bytes(bytes_, at, 32);
    if (before.size() < 32 || u8(before, 0) != 0xE5) return false;
    Bytes after = before;
    after[0] = std::byte{'B'};
    if (geometry_.width == fat::Width::fat32)
      store_le16(after, kHighClusterAt, clusters_.front() >> 16);
    change(step, at, before, after);
    return true;
  }

  bool chains(RepairStep& step) const {
    for (std::uint32_t copy = 0; copy < geometry_.table_count; ++copy) {
      if (geometry_.only_table && *geometry_.only_table != copy) continue;
      const std::uint64_t at = geometry_.table_offset + copy * geometry_.table_bytes;
      const Bytes before = read_bytes(bytes_, at, static_cast<std::size_t>(geometry_.table_bytes));
      if (before.size() < geometry_.table_bytes) return false;
      Bytes after = before;
      for (std::size_t i = 0; i < clusters_.size(); ++i) {
        if (fat::table_entry(before, geometry_.width, clusters_[i]) != 0) return false;
        store_fat_entry(
            after, geometry_.width, clusters_[i],
            i + 1 < clusters_.size() ? clusters_[i + 1] : max_fat_entry(geometry_.width));
      }
      change(step, at, before, after);
    }
    return true;
  }

  void free_count(RepairStep& step) const {
    if (geometry_.width != fat::Width::fat32) return;
    const std::uint64_t at = std::uint64_t{le16(boot_, kInfoSectorAt)} * geometry_.sector_bytes;
    const Bytes before = read_bytes(bytes_, at, kSector);
    if (at == 0 || before.size() < kSector || le32(before, kInfoMarkAt) != kInfoMark) return;
    const std::uint32_t free = le32(before, kFreeCountAt);
    if (free > geometry_.cluster_count || free < clusters_.size()) return;
    Bytes after = before;
    store_le32(after, kFreeCountAt, free - clusters_.size());
    change(step, at, before, after);
  }

  Bytes boot_;
  fat::Geometry geometry_;
  std::vector<std::uint32_t> clusters_;  // in file order
};

}  // namespace

void diagnose_efi_loader(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis) {
  EfiLoader(disk, volume, diagnosis).run();
}

}  // namespace lantern::repair
