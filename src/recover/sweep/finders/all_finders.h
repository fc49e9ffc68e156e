// All that a sweep looks for, by kind.
//
// Thread-safety: one thread.
#pragma once

#include <algorithm>
#include <array>
#include <string>
#include <string_view>
#include <vector>

#include "recover/sweep/finders/content_finder.h"
#include "recover/sweep/finders/exfat_finder.h"
#include "recover/sweep/finders/ext_finder.h"
#include "recover/sweep/finders/fat_finder.h"
#include "recover/sweep/finders/ntfs_finder.h"
#include "recover/sweep/finders/volume_finder.h"

namespace lantern {

constexpr std::array<std::string_view, 6> kSweepKinds = {"volumes", "ntfs", "fat",
                                                         "exfat",   "ext",  "content"};

struct Finders {
  VolumeFinder volumes;
  NtfsFinder ntfs;
  FatFinder fat;
  ExfatFinder exfat;
  ExtFinder ext;
  ContentFinder content;

  explicit Finders(const ContentFinder::Means& means) : content(means) {}

  // Of these kinds; nothing: of all.
  std::vector<CatalogFinder*> of(const std::vector<std::string>& kinds) {
    const std::array<CatalogFinder*, kSweepKinds.size()> all = {&volumes, &ntfs, &fat,
                                                                &exfat,   &ext,  &content};
    std::vector<CatalogFinder*> chosen;
    for (std::size_t i = 0; i < all.size(); ++i)
      if (kinds.empty() || std::find(kinds.begin(), kinds.end(), kSweepKinds[i]) != kinds.end())
        chosen.push_back(all[i]);
    return chosen;
  }
};

}  // namespace lantern
