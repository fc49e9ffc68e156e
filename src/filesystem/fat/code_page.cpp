#include "filesystem/fat/code_page.h"

#include <fmt/format.h>
#include <iconv.h>

#include <cctype>

#include "lantern/error.h"

namespace lantern::fat {
namespace {

bool is_number(const std::string& text) {
  for (const char c : text)
    if (std::isdigit(static_cast<unsigned char>(c)) == 0) return false;
  return !text.empty();
}

}  // namespace

CodePage::CodePage(const std::string& name) {
  const std::string full = is_number(name) ? "CP" + name : name;
  const iconv_t converter = iconv_open("UTF-8", full.c_str());
  if (converter == reinterpret_cast<iconv_t>(-1))
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("the code page \"{}\" is not known here", name),
                "try 437, 850, 852, 866, 932 or 1252");
  for (std::size_t i = 0; i < characters_.size(); ++i) {
    char in = static_cast<char>(i);
    std::array<char, 8> out{};
    char* from = &in;
    char* to = out.data();
    std::size_t in_left = 1;
    std::size_t out_left = out.size();
    const bool good = i < 0x80 || iconv(converter, &from, &in_left, &to, &out_left) == 0;
    if (!good) iconv(converter, nullptr, nullptr, nullptr, nullptr);
    characters_.at(i) = i < 0x80 ? std::string(1, in)
                        : good   ? std::string(out.data(), out.size() - out_left)
                                 : "\xEF\xBF\xBD";
  }
  iconv_close(converter);
}

std::string CodePage::to_utf8(std::string_view bytes) const {
  std::string text;
  for (const char c : bytes) text += characters_.at(static_cast<unsigned char>(c));
  return text;
}

}  // namespace lantern::fat
