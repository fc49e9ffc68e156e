// The checks of contents, one a kind; each throws Break where the content stops making sense.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <string_view>

#include "contents/kind_reader.h"

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
Held check_bmp(KindReader& file);        // Windows bitmap: BITMAPFILEHEADER and behind
Held check_mpeg(KindReader& file);       // ISO/IEC 11172-3: mp3; ID3 tags
Held check_ebml(KindReader& file);       // RFC 9559: mkv, webm
Held check_tar(KindReader& file);        // POSIX.1-2017, pax
Held check_rar(KindReader& file);        // the headers alone
Held check_rtf(KindReader& file);        // Rich Text Format 1.9.1
Held check_text(KindReader& file);       // by the bytes that texts have
Held check_mail(KindReader& file);       // RFC 5322, RFC 4155

using Check = Held (*)(KindReader& file);
// By the name that signatures have for it; null: not a known check.
Check check_by_name(std::string_view name);

}  // namespace lantern::kinds
