#include "base/kinds/content_kind.h"

#include <algorithm>

#include "base/kinds/signatures.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using namespace std::string_view_literals;

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
  const SignatureKind* const kind = Signatures::built_in().marked(start);
  return kind == nullptr ? std::string_view() : kind->name;
}

std::string_view content_kind(ByteView start) {
  const std::string_view mark = marked_kind(start);
  if (!mark.empty()) return mark == "zip" ? kind_of_zip(start) : mark;
  return is_text(start) ? "txt"sv : std::string_view();
}

std::vector<std::string_view> content_kinds(std::string_view word) {
  std::string lower(word);
  for (char& c : lower)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  const Signatures& known = Signatures::built_in();
  if (const SignatureKind* const kind = known.by_name(lower)) return {kind->name};
  std::vector<std::string_view> all;
  for (const SignatureKind& kind : known.kinds())
    if (!lower.empty() && (kind.family == lower ||
                           std::find(kind.also.begin(), kind.also.end(), lower) != kind.also.end()))
      all.push_back(kind.name);
  return all;
}

std::string content_kind_words() {
  std::string families, kinds;
  for (const SignatureKind& kind : Signatures::built_in().kinds()) {
    const std::string family = kind.family + ", ";
    if (!kind.family.empty() && families.find(family) == std::string::npos) families += family;
    kinds += kind.name + ", ";
  }
  kinds.resize(kinds.size() - 2);
  return families + kinds;
}

}  // namespace lantern
