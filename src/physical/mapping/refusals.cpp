#include "physical/mapping/refusals.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

std::string resolved_path(const std::string& path) {
  std::error_code error;
  const auto real = std::filesystem::canonical(path, error);
  return error ? path : real.string();
}

}  // namespace

NamedDisk lasting_disk(const std::string& first, const Host& host, const Context& context) {
  if (first.starts_with(kNamed))
    return find_disk(host, std::string_view(first).substr(kNamed.size()), context);
  const std::string device = resolved_path(first);
  for (NamedDisk& disk : name_disks(host, context)) {
    if (resolved_path(disk.facts.device) != device) continue;
    if (first.starts_with("/dev/disk/by-")) return std::move(disk);
    throw Error(ErrorCode::refused, first, std::nullopt,
                "is a name that another disk may have tomorrow",
                "name it by what lasts: " + kNamed + for_terminal(disk.name));
  }
  throw Error(ErrorCode::not_found, first, std::nullopt, "is not a disk of this computer",
              {Do::disks, " shows those there are; an image is attached as it is"});
}

void refuse_own(const NamedDisk& disk) {
  if (disk.facts.computers_own)
    throw Error(ErrorCode::refused, kNamed + disk.name, std::nullopt,
                "this computer runs from it: a machine that writes to it would destroy the system",
                "choose another disk");
}

void refuse_used(const NamedDisk& disk, const std::vector<VolumeRow>& wanted) {
  std::vector<HostUse> uses;
  // A partition before the disk it is on, an array before its members.
  for (const HostPartition& part : disk.facts.partitions)
    if (wanted.empty() || std::any_of(wanted.begin(), wanted.end(), [&](const VolumeRow& row) {
          // A simulation knows partitions by number alone.
          return part.range.empty() ? row.number == part.number
                                    : !intersect(row.range, part.range).empty();
        }))
      uses.insert(uses.end(), part.uses.rbegin(), part.uses.rend());
  uses.insert(uses.end(), disk.facts.uses.rbegin(), disk.facts.uses.rend());
  if (uses.empty()) return;
  std::string words, cure;
  for (const HostUse& use : uses) {
    words += (words.empty() ? "" : ", ") + use.words;
    if (!use.release.empty()) cure += (cure.empty() ? "release it with: " : "; ") + use.release;
  }
  throw Error(ErrorCode::refused, kNamed + disk.name, std::nullopt, "is in use: " + words,
              cure.empty() ? "end that use first" : cure);
}

void refuse_taken(const std::string& path) {
  std::error_code error;
  if (std::filesystem::exists(std::filesystem::symlink_status(path, error)))
    throw Error(ErrorCode::refused, path, std::nullopt, "is there already",
                "choose another name; nothing is replaced");
}

}  // namespace lantern
