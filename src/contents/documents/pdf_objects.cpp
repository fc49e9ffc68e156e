#include "contents/documents/pdf_objects.h"

#include <algorithm>
#include <charconv>

#include "contents/archives/inflate_stream.h"
#include "contents/kinds.h"
#include "contents/part.h"

namespace lantern::kinds {
namespace {

constexpr std::uint64_t kMaxObject = 16u << 20;  // bytes, its stream left out
constexpr std::uint64_t kMaxStream = std::uint64_t{1} << 30;
constexpr std::uint64_t kMaxBlank = 4096;

bool is_blank(unsigned byte) {
  return byte == ' ' || byte == '\n' || byte == '\r' || byte == '\t' || byte == 0 || byte == '\f';
}

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

// The number behind a key, when it stands there itself.
std::optional<std::uint64_t> direct_number(const std::string& words, std::string_view key) {
  std::size_t at = words.find(key);
  if (at == std::string::npos) return std::nullopt;
  at += key.size();
  while (at < words.size() && words[at] == ' ') ++at;
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(words.data() + at, words.data() + words.size(), value);
  if (error != std::errc()) return std::nullopt;
  // "12 0 R" points to another object that has it.
  const std::string_view rest(end, static_cast<std::size_t>(words.data() + words.size() - end));
  if (rest.size() > 3 && rest[0] == ' ' && is_digit(rest[1])) return std::nullopt;
  return value;
}

}  // namespace

std::string PdfObjects::text(std::uint64_t at, std::uint64_t most) {
  if (at >= file_.size()) return {};
  return text_of(file_.view(at, static_cast<std::size_t>(std::min(most, file_.size() - at))));
}

std::uint64_t PdfObjects::past_blank(std::uint64_t at) {
  const std::uint64_t from = at;
  while (at - from < kMaxBlank && file_.has(at, 1)) {
    const unsigned byte = file_.byte(at);
    if (byte == '%' && !file_.starts(at, "%%EOF")) {
      while (at - from < kMaxBlank && file_.has(at, 1) && file_.byte(at) != '\n' &&
             file_.byte(at) != '\r')
        ++at;
    } else if (!is_blank(byte)) {
      break;
    } else {
      ++at;
    }
  }
  return at;
}

bool PdfObjects::is_object(std::uint64_t at) {
  const std::string words = text(at, 32);
  std::size_t i = 0;
  const auto number = [&] {
    const std::size_t from = i;
    while (i < words.size() && is_digit(words[i])) ++i;
    const bool any = i > from && i < words.size() && words[i] == ' ';
    ++i;
    return any;
  };
  const bool first = number();
  const bool second = first && number();
  return second && words.compare(std::min(i, words.size()), 3, "obj") == 0;
}

std::uint64_t PdfObjects::walk() {
  std::uint64_t at = past_blank(0), end = 0;
  for (;;) {
    file_.check_cancelled();
    if (is_object(at)) {
      at = object(at);
    } else if (file_.starts(at, "xref")) {
      const auto trailer = file_.find(at, "trailer", kMaxObject * 16);
      if (!trailer) file_.broken(at, "its table breaks off");
      const auto start = file_.find(*trailer, "startxref", kMaxObject);
      if (!start) file_.broken(at, "its trailer breaks off");
      at = *start;
    } else if (file_.starts(at, "startxref")) {
      const auto mark = file_.find(at, "%%EOF", 64);
      if (!mark) file_.broken(at, "it has no end mark");
      end = *mark + 5;
      if (file_.starts(end, "\r\n"))
        end += 2;
      else if (file_.starts(end, "\n") || file_.starts(end, "\r"))
        ++end;
      // It may go on with what was changed later.
      at = past_blank(end);
      const bool more = is_object(at) || file_.starts(at, "xref");
      if (!more) return end;
    } else {
      if (end > 0) return end;
      file_.broken(at, "no object begins where it should");
    }
    at = past_blank(at);
  }
}

// The byte behind it.
std::uint64_t PdfObjects::object(std::uint64_t at) {
  constexpr std::uint64_t kStep = 1024;
  std::uint64_t from = at;
  while (from - at < kMaxObject) {
    file_.check_cancelled();
    const std::string words = text(from, kStep);
    const std::size_t end = words.find("endobj"), data = words.find("stream");
    if (end != std::string::npos && (data == std::string::npos || end < data)) {
      file_.prove();
      unchecked_ = std::max(unchecked_, std::min<std::uint64_t>(from + end - at, 4096));
      return from + end + 6;
    }
    if (data != std::string::npos) {
      file_.prove();
      const std::string head = text(at, std::min<std::uint64_t>(from + data - at, 64u << 10));
      return stream(from + data + 6, head);
    }
    if (words.size() < kStep) file_.cut(file_.size(), "its last object ends before its end");
    // No longer object is text alone.
    if (words.find(std::string(8, '\0')) != std::string::npos) break;
    from += kStep - 8;
  }
  file_.broken(from, "an object has no end");
}

std::uint64_t PdfObjects::stream(std::uint64_t data, const std::string& words) {
  if (file_.starts(data, "\r\n"))
    data += 2;
  else if (file_.starts(data, "\n") || file_.starts(data, "\r"))
    ++data;
  const auto length = direct_number(words, "/Length");
  const bool packed = words.find("/FlateDecode") != std::string::npos &&
                      words.find("/Filter [") == std::string::npos &&
                      words.find("/Filter[") == std::string::npos;
  const bool picture = words.find("/DCTDecode") != std::string::npos;
  std::uint64_t end = 0;
  if (packed && words.find("/Encrypt") == std::string::npos && file_.has(data, 2) &&
      file_.be16(data) % 31 == 0 && (file_.byte(data) & 15u) == 8) {
    end = past_zlib(file_, data + 2, file_.size() - data - 2);
  } else if (length) {
    if (!file_.has(data, *length)) file_.cut(file_.size(), "its last stream ends before its end");
    end = data + *length;
    if (picture && file_.starts(data, "\xFF\xD8")) {
      const Part part(file_.source(), {data, *length});
      KindReader inside(part, file_.context());
      try {
        const Held held = check_jpeg(inside);
        unchecked_ = std::max(unchecked_, held.unchecked_bytes);
      } catch (const Break& met) {
        file_.broken(data + met.at, met.why);
      }
      file_.spend(inside.work(), data);
    } else {
      unchecked_ = std::max(unchecked_, *length);
    }
  }
  if (end == 0) {
    const auto mark = file_.find(data, "endstream", kMaxStream);
    if (!mark) file_.broken(data, "a stream has no end");
    end = *mark;
    unchecked_ = std::max(unchecked_, end - data);
  }
  const std::uint64_t mark = past_blank(end);
  if (!file_.starts(mark, "endstream")) file_.broken(end, "a stream does not end where it should");
  const std::uint64_t close = past_blank(mark + 9);
  if (!file_.starts(close, "endobj")) file_.broken(close, "an object has no end");
  return close + 6;
}

}  // namespace lantern::kinds
