#include "base/content_kind.h"

#include <algorithm>
#include <array>

#include "lantern/text.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

struct Mark {
  std::size_t at;
  std::string_view bytes;
  std::string_view kind;
};

// The more telling of two that may both fit comes first.
constexpr std::array<Mark, 41> kMarks = {{
    {0, "\xFF\xD8\xFF"sv, "jpg"},
    {0, "\x89PNG\r\n\x1A\n"sv, "png"},
    {0, "GIF8"sv, "gif"},
    {0, "II*\0"sv, "tif"},
    {0, "MM\0*"sv, "tif"},
    {8, "WEBP"sv, "webp"},
    {8, "WAVE"sv, "wav"},
    {8, "AVI "sv, "avi"},
    {4, "ftypqt"sv, "mov"},
    {4, "ftypheic"sv, "heic"},
    {4, "ftypM4A"sv, "m4a"},
    {4, "ftyp"sv, "mp4"},
    {0, "\x1A\x45\xDF\xA3"sv, "mkv"},
    {0, "OggS"sv, "ogg"},
    {0, "fLaC"sv, "flac"},
    {0, "ID3"sv, "mp3"},
    {0, "\xFF\xFB"sv, "mp3"},
    {0, "%PDF-"sv, "pdf"},
    {0, "{\\rtf"sv, "rtf"},
    {0, "%!PS"sv, "ps"},
    {0, "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"sv, "ole"},
    {38, "application/vnd.oasis.opendocument.text"sv, "odt"},
    {38, "application/vnd.oasis.opendocument.spreadsheet"sv, "ods"},
    {38, "application/epub+zip"sv, "epub"},
    {0, "PK\x03\x04"sv, "zip"},
    {0, "\x1F\x8B\x08"sv, "gz"},
    {0, "BZh"sv, "bz2"},
    {0,
     "\xFD"
     "7zXZ\0"sv,
     "xz"},
    {0, "7z\xBC\xAF\x27\x1C"sv, "7z"},
    {0, "\x28\xB5\x2F\xFD"sv, "zst"},
    {0, "Rar!\x1A\x07"sv, "rar"},
    {257, "ustar"sv, "tar"},
    {0, "SQLite format 3\0"sv, "sqlite"},
    {0,
     "\x7F"
     "ELF"sv,
     "elf"},
    {0, "QFI\xFB"sv, "qcow2"},
    {0, "KDMV"sv, "vmdk"},
    {0x40, "\x7F\x10\xDA\xBE"sv, "vdi"},
    {0, "vhdxfile"sv, "vhdx"},
    {0, "MZ"sv, "exe"},
    {0, "BM"sv, "bmp"},
    {0, "From "sv, "mbox"},
}};

struct Named {
  std::string_view word;
  std::string_view kinds;  // with blanks between
};

constexpr std::array<Named, 6> kFamilies = {{
    {"picture", "jpg png gif tif webp heic bmp"},
    {"video", "mov mp4 avi mkv"},
    {"sound", "wav m4a ogg flac mp3"},
    {"document", "pdf rtf ps ole docx xlsx pptx odt ods epub txt html xml"},
    {"archive", "zip gz bz2 xz 7z zst rar tar"},
    {"disk", "qcow2 vmdk vdi vhdx"},
}};

constexpr std::array<Named, 15> kOtherNames = {{
    {"jpeg", "jpg"},
    {"tiff", "tif"},
    {"m4v", "mp4"},
    {"quicktime", "mov"},
    {"doc", "ole"},
    {"xls", "ole"},
    {"ppt", "ole"},
    {"msg", "ole"},
    {"htm", "html"},
    {"text", "txt"},
    {"csv", "txt"},
    {"db", "sqlite"},
    {"gzip", "gz"},
    {"bzip2", "bz2"},
    {"eml", "txt"},
}};

constexpr std::array<std::string_view, 6> kFurtherKinds = {"docx", "xlsx", "pptx",
                                                           "txt",  "xml",  "html"};

// Office documents are zips: what they are is in the names of their members, in any order.
std::string_view kind_of_zip(ByteView start) {
  constexpr std::size_t kNameAt = 30;  // in a member's header
  const std::string text = text_of(start);
  for (std::size_t at = text.find("PK\x03\x04"sv); at != std::string::npos;
       at = text.find("PK\x03\x04"sv, at + 4)) {
    const std::string_view name =
        std::string_view(text).substr(std::min(at + kNameAt, text.size()));
    for (const auto& [folder, kind] :
         {std::pair{"word/"sv, "docx"sv}, {"xl/"sv, "xlsx"sv}, {"ppt/"sv, "pptx"sv}})
      if (name.starts_with(folder)) return kind;
  }
  return "zip";
}

}  // namespace

bool is_text(ByteView start) {
  std::string text = text_of(start);
  for (int cut = 0; cut < 4 && !text.empty() && !is_valid_utf8(text); ++cut) text.pop_back();
  return !text.empty() && text.size() + 4 > start.size() && is_valid_utf8(text) &&
         std::none_of(text.begin(), text.end(), [](char c) {
           return static_cast<unsigned char>(c) < 0x20 && c != '\n' && c != '\r' && c != '\t';
         });
}

std::string_view marked_kind(ByteView start) {
  const auto mark = std::find_if(kMarks.begin(), kMarks.end(),
                                 [&](const Mark& m) { return has_text(start, m.at, m.bytes); });
  return mark == kMarks.end() ? std::string_view() : mark->kind;
}

std::string_view content_kind(ByteView start) {
  const std::string_view mark = marked_kind(start);
  if (!mark.empty()) return mark == "zip" ? kind_of_zip(start) : mark;
  if (!is_text(start)) return {};
  if (has_text(start, 0, "<?xml")) return "xml";
  if (has_text(start, 0, "<!DOCTYPE html") || has_text(start, 0, "<html")) return "html";
  return "txt";
}

std::vector<std::string_view> content_kinds(std::string_view word) {
  std::string lower(word);
  for (char& c : lower)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  std::string_view kinds;
  for (const Named& family : kFamilies)
    if (family.word == lower) kinds = family.kinds;
  for (const Named& other : kOtherNames)
    if (other.word == lower) kinds = other.kinds;
  std::vector<std::string_view> all;
  for (const Mark& mark : kMarks)
    if (mark.kind == lower) return {mark.kind};
  for (const std::string_view kind : kFurtherKinds)
    if (kind == lower) return {kind};
  while (!kinds.empty()) {
    const std::size_t end = std::min(kinds.find(' '), kinds.size());
    all.push_back(kinds.substr(0, end));
    kinds.remove_prefix(std::min(end + 1, kinds.size()));
  }
  return all;
}

std::string content_kind_words() {
  std::string words;
  const auto add = [&](std::string_view word) {
    if (words.find(" " + std::string(word) + ",") == std::string::npos)
      words += " " + std::string(word) + ",";
  };
  for (const Named& family : kFamilies) add(family.word);
  for (const Mark& mark : kMarks) add(mark.kind);
  for (const std::string_view kind : kFurtherKinds) add(kind);
  return words.substr(1, words.size() - 2);
}

}  // namespace lantern
