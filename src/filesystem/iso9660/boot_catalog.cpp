#include "filesystem/iso9660/boot_catalog.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "filesystem/iso9660/layout.h"

namespace lantern::iso9660 {
namespace {

constexpr std::size_t kEntry = 32;
constexpr std::size_t kCatalogBytes = 4 * kBlock;
constexpr std::uint8_t kLastSection = 0x91;
// Bytes of a floppy disk of 80 cylinders and 2 sides for each sector of a track.
constexpr std::uint64_t kPerSector = std::uint64_t{80} * 2 * 512;

std::string platform_of(std::uint8_t id) {
  switch (id) {
    case 0x00:
      return "PC";
    case 0x01:
      return "PowerPC";
    case 0x02:
      return "Mac";
    case 0xEF:
      return "EFI";
    default:
      return fmt::format("platform {:#04x}", id);
  }
}

bool is_valid(ByteView entry) {
  std::uint16_t sum = 0;
  for (std::size_t i = 0; i < kEntry; i += 2)
    sum = static_cast<std::uint16_t>(sum + le16(entry, i));
  return u8(entry, 0) == 1 && le16(entry, 0x1E) == 0xAA55 && sum == 0;
}

BootImage image_of(ByteView entry, std::uint8_t platform) {
  struct Medium {
    const char* words;
    std::uint64_t bytes;
  };
  static constexpr std::array<Medium, 5> kMedia = {{{"no emulation", 0},
                                                    {"a floppy disk of 1.2 MB", 15 * kPerSector},
                                                    {"a floppy disk of 1.44 MB", 18 * kPerSector},
                                                    {"a floppy disk of 2.88 MB", 36 * kPerSector},
                                                    {"a hard disk", 0}}};
  const Medium medium = kMedia[std::min<std::size_t>(u8(entry, 1) & 0x0F, kMedia.size() - 1)];
  BootImage image;
  image.block = le32(entry, 8);
  image.whole = medium.bytes != 0;
  image.bytes = image.whole ? medium.bytes : std::uint64_t{le16(entry, 6)} * 512;
  image.what = fmt::format("boot image for {}, {}{}", platform_of(platform), medium.words,
                           u8(entry, 0) == 0x88 ? "" : ", not to be started");
  return image;
}

}  // namespace

std::vector<BootImage> read_boot_catalog(const ByteSource& volume, std::uint64_t block) {
  std::vector<BootImage> images;
  Bytes catalog(kCatalogBytes);
  catalog.resize(volume.read(block * kBlock, catalog).length / kEntry * kEntry);
  if (catalog.size() < 2 * kEntry || !is_valid(catalog)) return images;
  const auto entry = [&](std::size_t i) { return slice(catalog, i * kEntry, kEntry); };
  const std::size_t count = catalog.size() / kEntry;
  images.push_back(image_of(entry(1), u8(catalog, 1)));
  for (std::size_t i = 2; i < count && (u8(entry(i), 0) & 0xFE) == 0x90;) {
    const bool last = u8(entry(i), 0) == kLastSection;
    const std::uint8_t platform = u8(entry(i), 1);
    std::size_t left = le16(entry(i), 2);
    for (++i; i < count && left > 0; ++i) {
      const std::uint8_t kind = u8(entry(i), 0);
      if (kind == 0x44) continue;
      if (kind != 0x88 && kind != 0x00) break;
      images.push_back(image_of(entry(i), platform));
      --left;
    }
    while (i < count && u8(entry(i), 0) == 0x44) ++i;
    if (last) break;
  }
  return images;
}

}  // namespace lantern::iso9660
