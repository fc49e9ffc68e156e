#include "nest/places/evidence.h"

#include "filesystem/exfat/places.h"
#include "filesystem/ext/places.h"
#include "filesystem/fat/places.h"
#include "filesystem/ntfs/places.h"
#include "lantern/file_system.h"
#include "nest/owner.h"
#include "nest/places/file_places.h"
#include "volume/table_places.h"

namespace lantern {

void add_evidence(Surroundings& around) {
  around.evidence = {table_places,  fat::places, ntfs::places,
                     exfat::places, ext::places, file_places};
  around.size_inside = disk_bytes_inside;
  around.is_volume = [](const SourcePtr& bytes) {
    Context quiet;
    return is_recognised(*bytes) || open_file_system(bytes, {}, quiet) != nullptr;
  };
}

}  // namespace lantern
