#include "contents/kinds.h"

#include <array>
#include <utility>

namespace lantern::kinds {

Check check_by_name(std::string_view name) {
  static constexpr std::array<std::pair<std::string_view, Check>, 27> kChecks = {{
      {"zip", check_zip},       {"gzip", check_gzip},         {"xz", check_xz},
      {"zstd", check_zstd},     {"bzip2", check_bzip2},       {"seven_zip", check_seven_zip},
      {"png", check_png},       {"jpeg", check_jpeg},         {"gif", check_gif},
      {"tiff", check_tiff},     {"riff", check_riff},         {"pdf", check_pdf},
      {"sqlite", check_sqlite}, {"flac", check_flac},         {"ogg", check_ogg},
      {"boxes", check_boxes},   {"compound", check_compound}, {"elf", check_elf},
      {"pe", check_pe},         {"bmp", check_bmp},           {"mpeg", check_mpeg},
      {"ebml", check_ebml},     {"tar", check_tar},           {"rar", check_rar},
      {"rtf", check_rtf},       {"text", check_text},         {"mail", check_mail},
  }};
  for (const auto& [known, check] : kChecks)
    if (known == name) return check;
  return nullptr;
}

}  // namespace lantern::kinds
