#include "filesystem/fat/fit.h"

#include <algorithm>

#include "base/checked.h"

namespace lantern::fat {
namespace {

constexpr std::size_t kSlot = 32;
constexpr std::size_t kMaxRoot = std::size_t{64} * 1024;
constexpr std::size_t kMaxFiles = 32;      // of the root, whose chains are followed
constexpr std::size_t kMaxChain = 4096;    // clusters of each
constexpr std::size_t kMaxTail = 1 << 20;  // bytes of a table behind its last entry

constexpr std::uint8_t kFolder = 0x10;
constexpr std::uint8_t kLongName = 0x0F;
constexpr std::uint8_t kLabel = 0x08;

Bytes read_up_to(const ByteSource& volume, std::uint64_t at, std::size_t length) {
  Bytes bytes(length);
  bytes.resize(volume.read(at, bytes).length);
  return bytes;
}

Bytes root_of(const Geometry& g, const ByteSource& volume) {
  if (g.width != Width::fat32)
    return read_up_to(volume, g.root_offset,
                      static_cast<std::size_t>(std::min<std::uint64_t>(g.root_bytes, kMaxRoot)));
  if (!g.valid_cluster(g.root_cluster)) return {};
  return read_up_to(volume, g.cluster_offset(g.root_cluster),
                    std::min<std::size_t>(g.cluster_bytes, kMaxRoot));
}

std::uint32_t first_cluster(ByteView slot, Width width) {
  return le16(slot, 26) | (width == Width::fat32 ? std::uint32_t{le16(slot, 20)} << 16 : 0);
}

// Calls `look` for each slot until the first that was never used.
template <typename Look>
void each_slot(ByteView root, Look look) {
  for (std::size_t at = 0; at + kSlot <= root.size() && u8(root, at) != 0; at += kSlot)
    look(root.subspan(at, kSlot));
}

bool table_begins(const Geometry& g, const ByteSource& volume, std::uint32_t number) {
  const Bytes first = read_up_to(volume, g.table_offset + number * g.table_bytes, 4);
  return first.size() == 4 && u8(first, 0) == g.media && u8(first, 1) == 0xFF;
}

// Entries of clusters the volume does not have are never used.
bool tail_is_empty(const Geometry& g, const ByteSource& volume) {
  const std::uint64_t end = divide_up(
      (std::uint64_t{g.cluster_count} + 2) * static_cast<unsigned>(g.width), std::uint64_t{8});
  if (end >= g.table_bytes) return true;
  return all_zero(
      read_up_to(volume, g.table_offset + end,
                 static_cast<std::size_t>(std::min<std::uint64_t>(g.table_bytes - end, kMaxTail))));
}

struct Counted {
  std::size_t right = 0, wrong = 0;
};

Counted slots_that_can_be(ByteView root) {
  Counted slots;
  each_slot(root, [&](ByteView slot) {
    const bool name = u8(slot, 0) >= 0x20 || u8(slot, 0) == 0x05 || u8(slot, 11) == kLongName;
    ++(name && u8(slot, 11) <= 0x3F ? slots.right : slots.wrong);
  });
  return slots;
}

// Of files in the root that are as many clusters long as their sizes ask for.
Counted files_that_fit(const Geometry& g, const ByteSource& volume, ByteView root) {
  Counted files;
  // Chains mostly go on where they are: a page of the table at a time.
  constexpr std::size_t kPage = 4096;
  Bytes page;
  std::uint64_t page_at = ~std::uint64_t{0};
  const auto entry_at = [&](std::uint64_t within) {
    const std::uint64_t at = within / kPage * kPage;
    if (at != page_at) {
      page = read_up_to(volume, g.table_offset + at, kPage + 4);
      page.resize(kPage + 4);
      page_at = at;
    }
    return ByteView(page).subspan(static_cast<std::size_t>(within - at), 4);
  };
  each_slot(root, [&](ByteView slot) {
    const std::uint8_t attributes = u8(slot, 11);
    const std::uint32_t size = le32(slot, 28);
    if (u8(slot, 0) == 0xE5 || (attributes & (kFolder | kLabel)) != 0 || size == 0 ||
        files.right + files.wrong >= kMaxFiles)
      return;
    const std::uint64_t right = divide_up(std::uint64_t{size}, std::uint64_t{g.cluster_bytes});
    // Of a longer chain the beginning tells enough.
    const std::uint64_t looked_at = std::min<std::uint64_t>(right, kMaxChain);
    std::uint64_t length = 0;
    std::uint32_t cluster = first_cluster(slot, g.width);
    while (g.valid_cluster(cluster) && length <= looked_at) {
      ++length;
      const std::uint64_t within = std::uint64_t{cluster} * static_cast<unsigned>(g.width) / 8;
      const ByteView entry = entry_at(within);
      // Of 12 bits the pair begins on a byte; an odd one is its upper half.
      cluster = g.width == Width::fat12 ? (cluster % 2 == 0 ? le16(entry, 0) & 0xFFFu
                                                            : std::uint32_t{le16(entry, 0)} >> 4)
                                        : table_entry(entry, g.width, 0);
    }
    const bool fits = right > kMaxChain ? length > looked_at : length == right;
    ++(fits ? files.right : files.wrong);
  });
  return files;
}

// Whether no cluster is in use, but that of the root folder.
bool table_is_empty(const Geometry& g, const ByteSource& volume) {
  const std::size_t reserved = g.width == Width::fat32 ? 12 : g.width == Width::fat16 ? 4 : 3;
  return all_zero(read_up_to(
      volume, g.table_offset + reserved,
      static_cast<std::size_t>(std::min<std::uint64_t>(g.table_bytes - reserved, kMaxRoot))));
}

// Folders that these slots lead to; `inside` is given the start of each that fits.
template <typename Inside>
RootFolders folders_in(const Geometry& g, const ByteSource& volume, ByteView slots, Inside inside) {
  constexpr std::size_t kLooked = 16 * kSlot;
  RootFolders found;
  each_slot(slots, [&](ByteView slot) {
    const std::uint8_t attributes = u8(slot, 11);
    if (u8(slot, 0) == 0xE5 || u8(slot, 0) == '.' || attributes == kLongName ||
        (attributes & kFolder) == 0)
      return;
    const std::uint32_t first = first_cluster(slot, g.width);
    const Bytes folder =
        g.valid_cluster(first) ? read_up_to(volume, g.cluster_offset(first), kLooked) : Bytes{};
    const bool names_itself = folder.size() == kLooked && has_text(folder, 0, ".          ") &&
                              first_cluster(folder, g.width) == first;
    ++(names_itself ? found.fitting : found.others);
    if (names_itself) inside(folder);
  });
  return found;
}

// Folders a level below those of the root: with one folder in the root, every size of a cluster
// puts that in the same place.
RootFolders second_folders(const Geometry& g, const ByteSource& volume, ByteView root) {
  constexpr std::size_t kMaxFolders = 64;
  RootFolders found;
  folders_in(g, volume, root, [&](ByteView folder) {
    if (found.fitting + found.others >= kMaxFolders) return;
    const RootFolders below = folders_in(g, volume, folder, [](ByteView) {});
    found.fitting += below.fitting;
    found.others += below.others;
  });
  return found;
}

// Whether the tables have an entry for every cluster that the volume has room for.
bool covers_volume(const Geometry& g) {
  const std::uint64_t room =
      g.volume_bytes > g.data_offset ? (g.volume_bytes - g.data_offset) / g.cluster_bytes : 0;
  return room <= g.cluster_count;
}

}  // namespace

bool length_fits(const Geometry& g) {
  const std::uint64_t needed =
      divide_up((std::uint64_t{g.cluster_count} + 2) * static_cast<unsigned>(g.width),
                std::uint64_t{8} * g.sector_bytes);
  const std::uint64_t there = g.table_bytes / g.sector_bytes;
  return needed <= there && there - needed <= 16 + there / 8;
}

std::uint32_t table_entry(ByteView table, Width width, std::size_t cluster) {
  switch (width) {
    case Width::fat32:
      return le32(table, cluster * 4) & 0x0FFFFFFF;
    case Width::fat16:
      return le16(table, cluster * 2);
    case Width::fat12:
      break;
  }
  const unsigned pair = le16(table, cluster * 3 / 2);
  return cluster % 2 == 0 ? pair & 0xFFF : pair >> 4;
}

RootFolders root_folders(const Geometry& g, const ByteSource& volume) {
  return folders_in(g, volume, root_of(g, volume), [](ByteView) {});
}

Fit fit(const Geometry& g, const ByteSource& volume) {
  Fit fit;
  const auto asked = [&](bool speaks_for, unsigned points) {
    fit.points += speaks_for ? points : 0;
    fit.doubted = fit.doubted || !speaks_for;
  };
  // Where there is nothing to look at, nothing speaks for it or against it.
  const auto counted = [&](std::size_t right, std::size_t wrong, unsigned points) {
    if (right + wrong > 0) asked(wrong * 4 <= right, points);
  };
  asked(table_begins(g, volume, 0), 2);
  asked(table_begins(g, volume, g.table_count > 1 ? 1 : 0), 2);
  // Nothing behind it can speak for a boot sector that leads to no table.
  if (fit.points == 0) return fit;
  asked(length_fits(g), 1);
  asked(tail_is_empty(g, volume), 1);
  asked(g.volume_bytes <= volume.size(), 1);
  const Bytes root = root_of(g, volume);
  const Counted slots = slots_that_can_be(root);
  counted(slots.right, slots.wrong, 1);
  const RootFolders folders = root_folders(g, volume);
  counted(folders.fitting, folders.others, 2);
  const RootFolders second = second_folders(g, volume, root);
  // These two tell between those that fit as well; alone they are no doubt.
  fit.points += second.fitting > second.others ? 1u : 0u;
  fit.points += covers_volume(g) ? 1u : 0u;
  const Counted files = files_that_fit(g, volume, root);
  counted(files.right, files.wrong, 2);
  if (folders.fitting + folders.others + files.right + files.wrong == 0)
    asked(table_is_empty(g, volume), 1);
  return fit;
}

}  // namespace lantern::fat
