// The checks of contents, one a kind; each throws Break where the content stops making sense.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <string_view>
#include <vector>

#include "recover/kinds/kind_reader.h"

namespace lantern::kinds {

Held check_zip(KindReader& file);        // PKWARE APPNOTE 6.3; documents in it too
Held check_gzip(KindReader& file);       // RFC 1952
Held check_xz(KindReader& file);         // .xz file format 1.1
Held check_zstd(KindReader& file);       // RFC 8878
Held check_bzip2(KindReader& file);      // as its library reads it
Held check_seven_zip(KindReader& file);  // 7zFormat.txt: the headers
Held check_png(KindReader& file);        // ISO/IEC 15948
Held check_jpeg(KindReader& file);       // ITU-T T.81
Held check_gif(KindReader& file);        // GIF89a
Held check_tiff(KindReader& file);       // TIFF 6.0
Held check_riff(KindReader& file);       // RIFF: webp, wav, avi
Held check_pdf(KindReader& file);        // ISO 32000
Held check_sqlite(KindReader& file);     // the database file format of its makers
Held check_flac(KindReader& file);       // RFC 9639
Held check_ogg(KindReader& file);        // RFC 3533
Held check_boxes(KindReader& file);      // ISO/IEC 14496-12: mp4, mov
Held check_compound(KindReader& file);   // MS-CFB
Held check_elf(KindReader& file);        // System V ABI
Held check_pe(KindReader& file);         // PE/COFF

struct Kind {
  std::string_view name;  // as content_kind gives it
  Held (*check)(KindReader& file);
};
const std::vector<Kind>& all();

}  // namespace lantern::kinds
