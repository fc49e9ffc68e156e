// A disk that UEFI firmware starts: a GPT with a FAT16 that holds a default loader, from sector
// 2048.
#pragma once

#include "kit/bytes.h"

namespace lantern::kit {

struct UefiDisk {
  enum class Loader { there, deleted, elsewhere, none, not_a_program };
  enum class Entry { efi_system, basic_data, none };

  explicit UefiDisk(Loader loader = Loader::there, Entry entry = Entry::efi_system);

  static constexpr std::size_t kStart = 2048 * 512;
  std::size_t volume_bytes = 0;
  Bytes disk;
};

}  // namespace lantern::kit
