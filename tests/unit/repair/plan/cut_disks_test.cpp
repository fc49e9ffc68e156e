// Disks that end anywhere: what they say of themselves leads past their end, and a plan is made, or
// refused in one line, all the same.
#include <gtest/gtest.h>

#include <algorithm>

#include "kit/disk_builder.h"
#include "kit/exfat_builder.h"
#include "kit/ext_builder.h"
#include "kit/fat_builder.h"
#include "kit/ntfs_builder.h"
#include "kit/thinned.h"
#include "kit/uefi_disk.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/survey.h"

namespace lantern::repair {
namespace {

void survives(const kit::Bytes& whole, const std::string& kind) {
  const kit::Folder folder;
  constexpr std::size_t kSectors = 48;
  for (std::size_t sectors = 1; sectors <= kSectors; sectors += kit::thinned(1)) {
    // The start alone, and the start without its first sector.
    for (const bool headless : {false, true}) {
      kit::Bytes cut(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(
                                                        std::min(whole.size(), sectors * 512)));
      if (headless) std::fill_n(cut.begin(), 512, std::byte{0});
      const Address address{folder.file("cut.img", cut), {}};
      const Context context;
      try {
        plan_repair(address, {}, Session({}, context));
        survey({address}, Session({}, context));
      } catch (const Error&) {
        // One clear line is an answer.
      } catch (const std::exception& fault) {
        ADD_FAILURE() << kind << " of " << sectors << " sectors: " << fault.what();
      }
    }
  }
}

TEST(CutDisks, OfEveryKindAreSurvived) {
  for (const auto width : {kit::FatBuilder::Width::fat12, kit::FatBuilder::Width::fat16,
                           kit::FatBuilder::Width::fat32}) {
    kit::FatBuilder fat(width);
    fat.file(0, "log.txt", kit::bytes_of("two eggs\n"), {5});
    survives(fat.bytes(), "fat");
  }
  survives(kit::UefiDisk().disk, "gpt");
  survives(kit::NtfsBuilder().bytes(), "ntfs");
  kit::ExtBuilder ext;
  ext.folder(2, 2, kit::ExtBuilder::kRootBlock, {});
  survives(ext.bytes(), "ext");
  kit::ExfatBuilder exfat;
  survives(exfat.bytes(), "exfat");
  kit::Bytes table(2048 * 512);
  kit::put_mbr(table, 0, {{0x07, 63, 1000, true}, {0x05, 2048, 4000}, {0x0C, 1, 3}});
  survives(table, "mbr");
}

}  // namespace
}  // namespace lantern::repair
