#include "repair/diagnose/diagnosis.h"

extern "C" {
extern const std::byte lantern_mbr_code[];
extern const std::byte lantern_mbr_code_end[];
}

namespace lantern::repair {

ByteView own_boot_code() {
  return {lantern_mbr_code, lantern_mbr_code_end};
}

}  // namespace lantern::repair
