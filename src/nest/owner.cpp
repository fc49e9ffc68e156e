#include "nest/owner.h"

namespace lantern {
namespace {

bool is_member(const Recognition& found) {
  return found.kind == FormatKind::array || found.kind == FormatKind::volume_manager ||
         found.kind == FormatKind::encryption;
}

bool is_of(const Recognition& found, const FileSystem& files) {
  return found.is_read && files.facts().format == found.format;
}

}  // namespace

const Recognition* owner_of(const std::vector<Recognition>& found, const FileSystem* files) {
  const auto first = [&](auto matches) -> const Recognition* {
    for (const Recognition& one : found)
      if (one.kind != FormatKind::partition_table && matches(one)) return &one;
    return nullptr;
  };
  if (const auto* member = first(
          [](const Recognition& one) { return is_member(one) && one.verified && !one.from_copy; }))
    return member;
  if (files != nullptr)
    if (const auto* own = first([&](const Recognition& one) {
          return is_of(one, *files) && one.verified && !one.from_copy;
        }))
      return own;
  // What is verified and not read counts more than a reader's guess from copies or figures alone.
  if (const auto* other = first(
          [](const Recognition& one) { return !one.is_read && one.verified && !one.from_copy; }))
    return other;
  if (files != nullptr)
    if (const auto* own = first([&](const Recognition& one) { return is_of(one, *files); }))
      return own;
  if (files != nullptr) {
    const auto* other = first([](const Recognition& one) { return !one.is_read && one.verified; });
    return other;
  }
  return first([](const Recognition&) { return true; });
}

bool is_recognised(const ByteSource& source) {
  const auto found = known_formats().recognise(source);
  return owner_of(found, nullptr) != nullptr;
}

bool is_remains(const FileSystem& files, const Recognition& owner, std::uint64_t size_bytes) {
  // A member whose metadata stand at its end begins with the content of the array.
  const bool at_start = owner.place < size_bytes / 2;
  return !is_of(owner, files) && !owner.is_read && owner.verified && at_start;
}

}  // namespace lantern
