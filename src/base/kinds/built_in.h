// The kinds of content that are known without being asked for, in the text form of signatures
// (docs/formats/signatures.md). Sources: the public specification of each format.
//
// Thread-safety: a constant.
#pragma once

#include <string_view>

namespace lantern {

// The more telling of two that may both fit comes first.
constexpr std::string_view kBuiltInKinds = R"(
kind jpg
  family picture
  also jpeg
  begins FF D8 FF
  check jpeg
kind png
  family picture
  begins 89 "PNG" 0D 0A 1A 0A
  check png
kind gif
  family picture
  begins "GIF87a"
  begins "GIF89a"
  check gif
kind tif
  family picture
  also tiff
  begins "II*" 00
  begins "MM" 00 "*"
  check tiff
kind webp
  family picture
  begins "RIFF" .. .. .. .. "WEBP"
  check riff
kind heic
  family picture
  also heif avif
  begins at 4 "ftypheic"
  begins at 4 "ftypheix"
  begins at 4 "ftypmif1"
  begins at 4 "ftypavif"
  check boxes
kind bmp
  family picture
  begins "BM"
  check bmp
kind mov
  family video
  also quicktime
  begins at 4 "ftypqt  "
  check boxes
kind m4a
  family sound
  begins at 4 "ftypM4A "
  check boxes
kind mp4
  family video
  also m4v
  begins at 4 "ftyp"
  check boxes
kind avi
  family video
  begins "RIFF" .. .. .. .. "AVI "
  check riff
kind mkv
  family video
  also webm mka
  begins 1A 45 DF A3
  check ebml
kind wav
  family sound
  begins "RIFF" .. .. .. .. "WAVE"
  check riff
kind ogg
  family sound
  begins "OggS"
  check ogg
kind flac
  family sound
  begins "fLaC"
  check flac
kind mp3
  family sound
  begins "ID3"
  begins FF FB
  begins FF FA
  begins FF F3
  begins FF F2
  check mpeg
kind pdf
  family document
  begins "%PDF-"
  check pdf
kind rtf
  family document
  begins "{\\rtf"
  check rtf
kind ps
  family document
  begins "%!PS"
kind ole
  family document
  also doc xls ppt msg
  begins D0 CF 11 E0 A1 B1 1A E1
  check compound
kind odt
  family document
  begins at 38 "application/vnd.oasis.opendocument.text"
  check zip
kind ods
  family document
  begins at 38 "application/vnd.oasis.opendocument.spreadsheet"
  check zip
kind odp
  family document
  begins at 38 "application/vnd.oasis.opendocument.presentation"
  check zip
kind epub
  family document
  begins at 38 "application/epub+zip"
  check zip
kind zip
  family archive
  begins "PK" 03 04
  check zip
kind docx
  family document
  check zip
kind xlsx
  family document
  check zip
kind pptx
  family document
  check zip
kind gz
  family archive
  also gzip
  begins 1F 8B 08
  check gzip
kind bz2
  family archive
  also bzip2
  begins "BZh"
  check bzip2
kind xz
  family archive
  begins FD "7zXZ" 00
  check xz
kind 7z
  family archive
  begins "7z" BC AF 27 1C
  check seven_zip
kind zst
  family archive
  also zstd
  begins 28 B5 2F FD
  check zstd
kind rar
  family archive
  begins "Rar!" 1A 07
  check rar
kind tar
  family archive
  begins at 257 "ustar"
  check tar
kind sqlite
  also db
  begins "SQLite format 3" 00
  check sqlite
kind elf
  begins 7F "ELF"
  check elf
kind qcow2
  family disk
  begins "QFI" FB
kind vmdk
  family disk
  begins "KDMV"
kind vdi
  family disk
  begins at 64 7F 10 DA BE
kind vhdx
  family disk
  begins "vhdxfile"
kind exe
  begins "MZ"
  check pe
kind mbox
  family mail
  begins "From "
  check mail
kind eml
  family mail
  begins "Return-Path: "
  begins "Received: from "
  begins "Delivered-To: "
  begins "MIME-Version: "
  begins "Message-ID: "
  begins "X-Mozilla-Status: "
  check mail
kind html
  family document
  also htm
  begins "<!DOCTYPE html"
  begins "<!doctype html"
  begins "<html"
  check text
kind xml
  family document
  begins "<?xml"
  check text
kind txt
  family document
  also text csv
  check text
)";

}  // namespace lantern
