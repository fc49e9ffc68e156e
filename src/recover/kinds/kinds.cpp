#include "recover/kinds/kinds.h"

namespace lantern::kinds {

const std::vector<Kind>& all() {
  static const std::vector<Kind> kinds = {
      {"7z", check_seven_zip},  {"avi", check_riff},     {"bz2", check_bzip2}, {"elf", check_elf},
      {"epub", check_zip},      {"exe", check_pe},       {"flac", check_flac}, {"gif", check_gif},
      {"gz", check_gzip},       {"heic", check_boxes},   {"jpg", check_jpeg},  {"m4a", check_boxes},
      {"mov", check_boxes},     {"mp4", check_boxes},    {"odt", check_zip},   {"ods", check_zip},
      {"ogg", check_ogg},       {"ole", check_compound}, {"pdf", check_pdf},   {"png", check_png},
      {"sqlite", check_sqlite}, {"tif", check_tiff},     {"wav", check_riff},  {"webp", check_riff},
      {"xz", check_xz},         {"zip", check_zip},      {"zst", check_zstd}};
  return kinds;
}

}  // namespace lantern::kinds
