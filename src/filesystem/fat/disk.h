// What every part of the FAT reader works on.
#pragma once

#include "filesystem/fat/boot_sector.h"
#include "filesystem/fat/code_page.h"
#include "filesystem/fat/table.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::fat {

struct Disk {
  SourcePtr raw;     // the volume
  SourcePtr cached;  // the same, for folders
  Geometry geometry;
  Table table;
  CodePage code_page;
  Context context;
  std::vector<std::uint32_t> folders{};  // first clusters of folders, where no table leads on

  bool wide() const { return geometry.width == Width::fat32; }
};

}  // namespace lantern::fat
