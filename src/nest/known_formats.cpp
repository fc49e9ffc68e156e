// Where the registry is composed: a new format is one line here.
#include <iterator>

#include "container/formats.h"
#include "filesystem/formats.h"
#include "format/named/named.h"
#include "volume/formats.h"

namespace lantern {

const Registry& known_formats() {
  static const Registry kFormats = [] {
    std::vector<Format> all = {
        gpt_format(),          apm_format(),   bsd_format(),    mbr_format(),  ext::format(),
        ext::journal_format(), ntfs::format(), exfat::format(), fat::format(), iso9660::format(),
        luks_format(),         lvm_format(),   md_format()};
    for (auto list : {named::encrypted(), named::volume_managers(), named::firmware_arrays(),
                      named::file_systems(), named::other_systems(), container_formats()})
      std::move(list.begin(), list.end(), std::back_inserter(all));
    return Registry(std::move(all));
  }();
  return kFormats;
}

}  // namespace lantern
