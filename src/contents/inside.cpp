#include "contents/inside.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cstring>

#include "base/utf16.h"
#include "contents/archives/unpacked_member.h"
#include "contents/kind_reader.h"
#include "lantern/text.h"

namespace lantern::kinds {
namespace {

constexpr std::size_t kMaxTitle = 200;      // bytes
constexpr std::uint64_t kNear = 64u << 10;  // bytes of a file in which what it says is looked for

std::string text_near(KindReader& file, std::uint64_t at, std::uint64_t most) {
  if (at >= file.size()) return {};
  return text_of(file.view(at, static_cast<std::size_t>(std::min(most, file.size() - at))));
}

// The figures of a text, in order: of "2024:06:01 12:30:05" six. `first`: digits of the first one.
std::optional<Timestamp> time_of_digits(std::string_view text, bool local) {
  constexpr std::array<std::size_t, 6> kDigits = {4, 2, 2, 2, 2, 2};
  std::array<int, 6> figures{0, 1, 1, 0, 0, 0};
  std::size_t at = 0, got = 0;
  for (; got < figures.size(); ++got) {
    while (at < text.size() && (text[at] < '0' || text[at] > '9')) {
      if (got == 0 || std::string_view(": -./T").find(text[at]) == std::string_view::npos) break;
      ++at;
    }
    if (at + kDigits[got] > text.size()) break;
    const char* const from = text.data() + at;
    if (std::from_chars(from, from + kDigits[got], figures[got]).ptr != from + kDigits[got]) break;
    at += kDigits[got];
  }
  if (got < 3 || figures[0] < 1970) return std::nullopt;
  const auto seconds =
      seconds_of(figures[0], figures[1], figures[2], figures[3], figures[4], figures[5]);
  if (!seconds) return std::nullopt;
  return Timestamp{*seconds, 0, 1'000'000'000, local};
}

std::string trimmed(std::string text) {
  text = text.substr(0, std::min(text.find('\0'), kMaxTitle));
  const auto blank = [](char c) { return static_cast<unsigned char>(c) <= ' '; };
  while (!text.empty() && blank(text.back())) text.pop_back();
  text.erase(text.begin(), std::find_if_not(text.begin(), text.end(), blank));
  return to_valid_utf8(text);
}

std::string utf16_text(std::string_view bytes, bool big_endian) {
  std::vector<char16_t> units;
  for (std::size_t i = 0; i + 1 < bytes.size() && units.size() < kMaxTitle; i += 2) {
    const auto a = static_cast<unsigned char>(bytes[i]),
               b = static_cast<unsigned char>(bytes[i + 1]);
    const auto unit = static_cast<char16_t>(big_endian ? a << 8 | b : b << 8 | a);
    if (unit == 0) break;
    units.push_back(unit);
  }
  return utf16_to_bytes(units);
}

// What stands between two marks; empty: they do not.
std::string between(const std::string& text, std::string_view open, std::string_view close) {
  const std::size_t from = text.find(open);
  if (from == std::string::npos) return {};
  const std::size_t start = from + open.size();
  const std::size_t end = text.find(close, start);
  return end == std::string::npos ? std::string() : text.substr(start, end - start);
}

void of_jpeg(KindReader& file, Inside& inside) {
  // Times of Exif 2.3 are texts of 19 letters: the one of the picture comes before the others' use.
  const std::string head = text_near(file, 0, kNear);
  if (head.find("Exif") == std::string::npos) return;
  std::optional<Timestamp> earliest;
  for (std::size_t at = head.find(':'); at != std::string::npos; at = head.find(':', at + 1)) {
    if (at < 4 || at + 15 > head.size() || head[at + 3] != ':' || head[at + 6] != ' ') continue;
    const auto time = time_of_digits(std::string_view(head).substr(at - 4, 19), true);
    if (time && (!earliest || time->seconds < earliest->seconds)) earliest = time;
  }
  inside.time = earliest;
}

void of_png(KindReader& file, Inside& inside) {
  for (std::uint64_t at = 8; file.has(at, 12) && at < kNear;) {
    const std::uint64_t length = file.be32(at);
    if (file.starts(at + 4, "tIME") && length == 7) {
      const auto seconds = seconds_of(file.be16(at + 8), file.byte(at + 10), file.byte(at + 11),
                                      file.byte(at + 12), file.byte(at + 13), file.byte(at + 14));
      if (seconds) inside.time = Timestamp{*seconds, 0, 1'000'000'000, false};
    }
    const std::string_view key("Title\0", 6);
    if (file.starts(at + 4, "tEXt") && file.starts(at + 8, key) && length > key.size())
      inside.title = text_near(file, at + 14, length - key.size());
    at += 12 + length;
  }
}

// A text of a PDF: in brackets, or as hexadecimal digits.
std::string pdf_text(const std::string& words, std::string_view key) {
  std::size_t at = words.find(key);
  if (at == std::string::npos) return {};
  at += key.size();
  while (at < words.size() && words[at] == ' ') ++at;
  std::string raw;
  if (at < words.size() && words[at] == '(') {
    for (++at; at < words.size() && words[at] != ')'; ++at) {
      if (words[at] == '\\') ++at;
      if (at < words.size()) raw += words[at];
    }
  } else if (at < words.size() && words[at] == '<') {
    for (++at; at + 1 < words.size() && words[at] != '>'; at += 2) {
      unsigned value = 0;
      std::from_chars(words.data() + at, words.data() + at + 2, value, 16);
      raw += static_cast<char>(value);
    }
  }
  if (raw.starts_with("\xFE\xFF")) return utf16_text(std::string_view(raw).substr(2), true);
  return raw;
}

void of_pdf(KindReader& file, Inside& inside) {
  const std::uint64_t tail = file.size() - std::min(file.size(), kNear);
  for (const std::uint64_t from : {tail, std::uint64_t{0}}) {
    const std::string words = text_near(file, from, kNear);
    if (inside.title.empty()) inside.title = pdf_text(words, "/Title");
    if (!inside.time) {
      const std::string made = pdf_text(words, "/CreationDate");
      if (made.size() > 2) inside.time = time_of_digits(std::string_view(made).substr(2), true);
    }
  }
}

void of_zip(KindReader& file, Inside& inside) {
  for (const std::string_view name : {"docProps/core.xml", "meta.xml"}) {
    const std::string text = unpacked_member(file, name, kNear);
    if (text.empty()) continue;
    inside.title = between(text, "<dc:title>", "</dc:title>");
    std::string made = between(text, "<dcterms:created", "</dcterms:created>");
    made = made.substr(std::min(made.find('>') + 1, made.size()));
    if (made.empty()) made = between(text, "<meta:creation-date>", "</meta:creation-date>");
    inside.time = time_of_digits(made, made.find('Z') == std::string::npos);
    return;
  }
  // Else the name of its first member, and when that was written.
  const std::string name = text_near(file, 30, file.le16(26));
  // Of documents the first one is the same in all.
  const bool document = name.starts_with("[Content_Types]") || name == "mimetype";
  if (document) return;
  inside.title = name;
  const int date = file.le16(12), time = file.le16(10);
  const auto seconds = seconds_of(1980 + (date >> 9), date >> 5 & 15, date & 31, time >> 11,
                                  time >> 5 & 63, time % 32 * 2);
  if (seconds) inside.time = Timestamp{*seconds, 0, 2'000'000'000, true};
}

void of_gzip(KindReader& file, Inside& inside) {
  constexpr unsigned kHasExtra = 4, kHasName = 8;
  if (const std::uint32_t seconds = file.le32(4); seconds != 0)
    inside.time = Timestamp{seconds, 0, 1'000'000'000, false};
  const unsigned flags = file.byte(3);
  if ((flags & kHasName) != 0 && (flags & kHasExtra) == 0)
    inside.title = text_near(file, 10, kMaxTitle);
}

void of_tar(KindReader& file, Inside& inside) {
  inside.title = text_near(file, 0, 100);
  std::uint64_t seconds = 0;
  const std::string digits = text_near(file, 136, 11);
  std::from_chars(digits.data(), digits.data() + digits.size(), seconds, 8);
  if (seconds != 0)
    inside.time = Timestamp{static_cast<std::int64_t>(seconds), 0, 1'000'000'000, false};
}

void of_mpeg(KindReader& file, Inside& inside) {
  const std::string head = text_near(file, 0, kNear);
  const std::size_t at = head.find("TIT2");
  if (!head.starts_with("ID3") || at == std::string::npos || at + 11 > head.size()) return;
  const std::uint64_t length = std::min<std::uint64_t>(file.be32(at + 4), kMaxTitle * 2);
  const std::string text = head.substr(at + 11, static_cast<std::size_t>(length) - 1);
  const auto form = static_cast<unsigned char>(head[at + 10]);
  if (form == 1 && text.size() > 2)
    inside.title = utf16_text(std::string_view(text).substr(2), text[0] == '\xFE');
  else
    inside.title = form == 2 ? utf16_text(text, true) : text;
}

// Comments of FLAC and Ogg: a length of four bytes before each.
void of_comments(KindReader& file, Inside& inside) {
  const std::string head = text_near(file, 0, kNear);
  std::string lower = head;
  for (char& c : lower) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  const std::size_t at = lower.find("title=");
  if (at == std::string::npos || at < 4) return;
  const std::uint64_t length = file.le32(at - 4);
  if (length > 6 && length < kMaxTitle)
    inside.title = head.substr(at + 6, static_cast<std::size_t>(length) - 6);
}

void of_boxes(KindReader& file, Inside& inside) {
  constexpr std::int64_t kFrom1904 = 2'082'844'800;  // seconds
  for (std::uint64_t at = 0; file.has(at, 16);) {
    const std::uint64_t length = file.be32(at) == 1 ? file.be64(at + 8) : file.be32(at);
    if (file.starts(at + 4, "moov") && file.starts(at + 12, "mvhd")) {
      const bool wide = file.byte(at + 16) == 1;
      const auto made = static_cast<std::int64_t>(wide ? file.be64(at + 20) : file.be32(at + 20));
      if (made > kFrom1904) inside.time = Timestamp{made - kFrom1904, 0, 1'000'000'000, false};
      return;
    }
    if (length < 8 || length > file.size() - at) return;
    at += length;
  }
}

// "Sat, 01 Jun 2024 12:30:05 +0200"
std::optional<Timestamp> time_of_mail(const std::string& text) {
  constexpr std::string_view kMonths = "JanFebMarAprMayJunJulAugSepOctNovDec";
  std::array<int, 5> figures{};  // day, year, hour, minute, second
  std::size_t at = 0, got = 0;
  int month = 0;
  while (at < text.size() && got < figures.size()) {
    const char* const from = text.data() + at;
    const auto [end, error] = std::from_chars(from, text.data() + text.size(), figures[got]);
    if (error == std::errc()) {
      ++got;
      at += static_cast<std::size_t>(end - from);
      continue;
    }
    const std::size_t name = kMonths.find(std::string_view(text).substr(at, 3));
    if (got == 1 && at + 3 <= text.size() && name != std::string_view::npos && name % 3 == 0)
      month = static_cast<int>(name / 3) + 1;
    ++at;
  }
  if (got < figures.size() || month == 0) return std::nullopt;
  auto seconds = seconds_of(figures[1], month, figures[0], figures[2], figures[3], figures[4]);
  if (!seconds) return std::nullopt;
  const std::size_t sign = text.find_first_of("+-", at);
  int zone = 0;
  if (sign != std::string::npos)
    std::from_chars(text.data() + sign + 1, text.data() + text.size(), zone);
  constexpr int kMaxZone = 1400;
  if (zone < 0 || zone > kMaxZone) zone = 0;
  const int offset = zone / 100 * 3600 + zone % 100 * 60;
  *seconds += sign != std::string::npos && text[sign] == '+' ? -offset : offset;
  return Timestamp{*seconds, 0, 1'000'000'000, false};
}

void of_mail(KindReader& file, Inside& inside) {
  const std::string head = text_near(file, 0, kNear);
  const auto field = [&](std::string_view name) {
    const std::size_t at = head.starts_with(name.substr(1)) ? 0 : head.find(name);
    if (at == std::string::npos) return std::string();
    const std::size_t from = at + (at == 0 ? name.size() - 1 : name.size());
    return head.substr(from, head.find_first_of("\r\n", from) - from);
  };
  inside.title = field("\nSubject:");
  inside.time = time_of_mail(field("\nDate:"));
}

void of_text(KindReader& file, Inside& inside) {
  const std::string head = text_near(file, 0, kNear);
  inside.title = between(head, "<title>", "</title>");
}

void of_rtf(KindReader& file, Inside& inside) {
  const std::string head = text_near(file, 0, kNear);
  inside.title = between(head, "{\\title ", "}");
  const std::string made = between(head, "{\\creatim", "}");
  std::array<int, 5> figures{0, 1, 1, 0, 0};
  constexpr std::array<std::string_view, 5> kWords = {"\\yr", "\\mo", "\\dy", "\\hr", "\\min"};
  for (std::size_t i = 0; i < kWords.size(); ++i)
    if (const std::size_t at = made.find(kWords[i]); at != std::string::npos)
      std::from_chars(made.data() + at + kWords[i].size(), made.data() + made.size(), figures[i]);
  if (figures[0] < 1970) return;
  if (const auto seconds =
          seconds_of(figures[0], figures[1], figures[2], figures[3], figures[4], 0))
    inside.time = Timestamp{*seconds, 0, 60'000'000'000, true};
}

void of_riff(KindReader& file, Inside& inside) {
  const std::string head = text_near(file, 0, kNear);
  const std::size_t at = head.find("INAM");
  if (at != std::string::npos && at + 8 < head.size())
    inside.title = text_near(file, at + 8, std::min<std::uint64_t>(file.le32(at + 4), kMaxTitle));
}

using Look = void (*)(KindReader&, Inside&);
constexpr std::array<std::pair<std::string_view, Look>, 14> kLooks = {{{"jpeg", of_jpeg},
                                                                       {"png", of_png},
                                                                       {"pdf", of_pdf},
                                                                       {"zip", of_zip},
                                                                       {"gzip", of_gzip},
                                                                       {"tar", of_tar},
                                                                       {"mpeg", of_mpeg},
                                                                       {"flac", of_comments},
                                                                       {"ogg", of_comments},
                                                                       {"boxes", of_boxes},
                                                                       {"mail", of_mail},
                                                                       {"text", of_text},
                                                                       {"rtf", of_rtf},
                                                                       {"riff", of_riff}}};

}  // namespace

Inside look_inside(const ByteSource& bytes, std::string_view check, const Context& context) {
  Inside inside;
  for (const auto& [name, look] : kLooks) {
    if (name != check) continue;
    KindReader file(bytes, context);
    try {
      look(file, inside);
    } catch (const Break&) {
      // What it says up to there is kept.
    }
  }
  inside.title = trimmed(inside.title);
  return inside;
}

}  // namespace lantern::kinds
