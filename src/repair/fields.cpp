#include "repair/fields.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/guid.h"
#include "lantern/text.h"

namespace lantern::repair {

std::string_view to_string(Weight weight) {
  switch (weight) {
    case Weight::identity:
      return "identity";
    case Weight::derived:
      return "checksum";
    case Weight::detail:
      return "detail";
    case Weight::data:
      return "data";
    case Weight::start:
      return "start";
  }
  return "";
}

const Field* Structure::find(std::string_view wanted) const {
  const auto found = std::find_if(fields.begin(), fields.end(),
                                  [&](const Field& field) { return field.name == wanted; });
  return found == fields.end() ? nullptr : &*found;
}

Field& FieldReader::add(std::string_view name, std::size_t at, std::size_t length, Weight weight,
                        std::string_view about) {
  slice(bytes(), at, length);
  Field& field = structure_.fields.emplace_back();
  field.name = prefix + std::string(name);
  field.place = {at, length};
  field.weight = weight;
  field.about = about;
  return field;
}

std::uint64_t FieldReader::number(std::string_view name, std::size_t at, std::size_t width,
                                  Weight weight, std::string_view about, As as) {
  std::uint64_t value = 0;
  for (std::size_t i = width; i-- > 0;) value = value << 8 | u8(bytes(), at + i);
  Field& field = add(name, at, width, weight, about);
  field.value =
      as == As::hexadecimal ? fmt::format("0x{:0{}x}", value, width * 2) : fmt::format("{}", value);
  return value;
}

std::string FieldReader::text(std::string_view name, std::size_t at, std::size_t length,
                              Weight weight, std::string_view about) {
  std::string value;
  for (std::size_t i = 0; i < length; ++i) value += static_cast<char>(u8(bytes(), at + i));
  while (!value.empty() && (value.back() == ' ' || value.back() == '\0')) value.pop_back();
  add(name, at, length, weight, about).value = "\"" + for_terminal(value) + "\"";
  return value;
}

std::string FieldReader::guid(std::string_view name, std::size_t at, Weight weight,
                              std::string_view about) {
  const std::string value = guid_text(bytes(), at);
  add(name, at, 16, weight, about).value = value;
  return value;
}

void FieldReader::raw(std::string_view name, std::size_t at, std::size_t length, Weight weight,
                      std::string_view about) {
  const bool none = all_zero(slice(bytes(), at, length));
  add(name, at, length, weight, about).value =
      none ? "nothing but zeros" : fmt::format("{} bytes", length);
}

void FieldReader::say(std::string value) {
  structure_.fields.back().value = std::move(value);
}

void FieldReader::expect(std::string what) {
  structure_.fields.back().expected = std::move(what);
}

}  // namespace lantern::repair
