#include <fmt/format.h>

#include <algorithm>

#include "base/bytes.h"
#include "lantern/structure.h"
#include "lantern/text.h"
#include "repair/borrowed_volumes.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMaxBytes = 16;  // told of a difference
constexpr std::size_t kMaxRows = 1000;
constexpr std::size_t kPiece = 1u << 20;

std::string hexadecimal(ByteView bytes) {
  std::string text;
  for (const std::byte byte : bytes.first(std::min(bytes.size(), kMaxBytes)))
    text += fmt::format("{}{:02x}", text.empty() ? "" : " ", std::to_integer<unsigned>(byte));
  return bytes.size() > kMaxBytes ? text + " ..." : text;
}

const Structure* named(const std::vector<Structure>& structures, const std::string& name) {
  const auto found = std::find_if(structures.begin(), structures.end(),
                                  [&](const Structure& s) { return s.name == name; });
  return found == structures.end() ? nullptr : &*found;
}

// The first run of bytes of a field that differ.
Range first_run(const Structure& a, const Structure& b, Range field) {
  std::uint64_t at = field.offset;
  const auto differ = [&](std::uint64_t i) {
    return a.bytes[static_cast<std::size_t>(i)] != b.bytes[static_cast<std::size_t>(i)];
  };
  while (at < field.end() && !differ(at)) ++at;
  std::uint64_t end = at;
  while (end < field.end() && differ(end)) ++end;
  return {at, end - at};
}

class Comparing {
 public:
  void compare(const Structure& a, const Structure& b) {
    const std::uint64_t common = std::min(a.bytes.size(), b.bytes.size());
    for (const Field& field : a.fields) {
      const Field* const other = b.find(field.name);
      if (other == nullptr || other->place != field.place || field.place.end() > common) continue;
      const Range run = first_run(a, b, field.place);
      if (run.empty())
        ++result_.same;
      else
        add(a, b, field, *other, run);
    }
    compare_rest(a, b, common);
  }

  void only_in(const Structure& structure, bool in_a) {
    Difference row;
    row.structure = structure.name;
    (in_a ? row.a : row.b) = "present";
    row.place = {0, structure.bytes.size()};
    row.weight = Weight::data;
    row.about = "the other disk has none";
    result_.rows.push_back(std::move(row));
  }

  Comparison take() {
    const auto rank = [](const Difference& row) {
      return std::pair(row.a_expected.empty() != row.b_expected.empty(), row.weight);
    };
    std::stable_sort(result_.rows.begin(), result_.rows.end(),
                     [&](const Difference& x, const Difference& y) { return rank(x) > rank(y); });
    return std::move(result_);
  }

 private:
  void add(const Structure& a, const Structure& b, const Field& of_a, const Field& of_b,
           Range run) {
    Difference row;
    row.structure = a.name;
    row.field = of_a.name;
    row.place = run;
    row.a = of_a.value;
    row.b = of_b.value;
    row.a_bytes = hexadecimal(part(a, run));
    row.b_bytes = hexadecimal(part(b, run));
    row.weight = of_a.weight;
    row.about = of_a.about;
    row.a_expected = of_a.expected;
    row.b_expected = of_b.expected;
    row.can_be_taken = !is_of_this_disk(row.field) && row.weight != Weight::identity &&
                       row.weight != Weight::derived && row.b_expected.empty();
    const bool right = row.a_expected.empty() && row.b_expected.empty();
    const bool own = row.weight == Weight::identity || row.weight == Weight::derived;
    (own && right ? result_.identity : result_.rows).push_back(std::move(row));
  }

  // Bytes no field speaks of.
  void compare_rest(const Structure& a, const Structure& b, std::uint64_t common) {
    std::vector<bool> told(static_cast<std::size_t>(common));
    for (const Structure* const s : {&a, &b})
      for (const Field& field : s->fields)
        for (std::uint64_t i = field.place.offset; i < std::min(field.place.end(), common); ++i)
          told[static_cast<std::size_t>(i)] = true;
    for (std::uint64_t at = 0; at < common; ++at) {
      const auto differs = [&](std::uint64_t i) {
        const auto n = static_cast<std::size_t>(i);
        return i < common && !told[n] && a.bytes[n] != b.bytes[n];
      };
      if (!differs(at)) continue;
      std::uint64_t end = at;
      while (differs(end)) ++end;
      Difference row;
      row.structure = a.name;
      row.field = fmt::format("bytes {} to {}", at, end - 1);
      row.place = {at, end - at};
      row.a = row.a_bytes = hexadecimal(part(a, row.place));
      row.b = row.b_bytes = hexadecimal(part(b, row.place));
      row.weight = Weight::detail;
      row.about = "no field is known there";
      result_.rows.push_back(std::move(row));
      at = end;
    }
  }

  static ByteView part(const Structure& structure, Range run) {
    return slice(structure.bytes, static_cast<std::size_t>(run.offset),
                 static_cast<std::size_t>(run.length));
  }

  Comparison result_;
};

const ByteSource& bytes_of(const Target& target) {
  return target.volume ? *target.volume_layer().bytes : *target.disk().container.flat;
}

}  // namespace

Comparison compare_bytes(const Target& a, const Target& b, Range range, const Context& context) {
  Comparison result;
  const ByteSource& of_a = bytes_of(a);
  const ByteSource& of_b = bytes_of(b);
  range = intersect(range, {0, std::min(of_a.size(), of_b.size())});
  Bytes x(kPiece), y(kPiece);
  for (std::uint64_t at = range.offset; at < range.end(); at += kPiece) {
    context.check_cancelled();
    const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, range.end() - at));
    of_a.read(at, std::span(x).first(length));
    of_b.read(at, std::span(y).first(length));
    for (std::size_t i = 0; i < length; ++i) {
      if (x[i] == y[i]) continue;
      std::size_t end = i;
      while (end < length && x[end] != y[end]) ++end;
      if (result.rows.size() == kMaxRows) return result;
      Difference row;
      row.structure = "bytes";
      row.place = {at + i, end - i};
      row.a = row.a_bytes = hexadecimal(slice(x, i, end - i));
      row.b = row.b_bytes = hexadecimal(slice(y, i, end - i));
      row.weight = Weight::data;
      row.about = counted(end - i, "byte") + " in a row";
      result.rows.push_back(std::move(row));
      i = end;
    }
  }
  return result;
}

Comparison compare_structures(const Target& a, const Target& b, const Context& context) {
  const std::vector<Structure> of_a = structures_of(with_volumes_of(a, b, context), context);
  const std::vector<Structure> of_b = structures_of(with_volumes_of(b, a, context), context);
  Comparing comparing;
  for (const Structure& structure : of_a) {
    const Structure* const other = named(of_b, structure.name);
    if (other != nullptr)
      comparing.compare(structure, *other);
    else
      comparing.only_in(structure, true);
  }
  for (const Structure& structure : of_b)
    if (named(of_a, structure.name) == nullptr) comparing.only_in(structure, false);
  return comparing.take();
}

}  // namespace lantern::repair
