#include "recover/sweep/what_to_read.h"

#include "catalog/catalog.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// Shorter ones cost more to leave out than to read.
constexpr std::uint64_t kMinLeftOut = 256u << 10;

}  // namespace

SourcePtr without(const SourcePtr& disk, const RangeSet& left_out, ExtentKind shown) {
  std::vector<Piece> pieces;
  left_out.parts({0, disk->size()}, [&](Range part, bool is_left_out) {
    if (is_left_out)
      pieces.push_back({shown, part.length, nullptr, 0});
    else
      pieces.push_back({ExtentKind::direct, part.length, disk, part.offset});
  });
  return make_joined(std::move(pieces));
}

RangeSet in_use_of(const DiskLayer& disk, const Context& context) {
  RangeSet in_use;
  for (const VolumeLayer& volume : disk.volumes) {
    const auto& files = volume.file_system();
    if (!files) continue;
    const Range range = intersect(volume.row.range, {0, disk.bytes->size()});
    files->allocation({0, range.length}, [&](Range part, bool used) {
      context.check_cancelled();
      if (used && part.length >= kMinLeftOut) in_use.add({range.offset + part.offset, part.length});
      return true;
    });
  }
  in_use.settle();
  return in_use;
}

RangeSet read_for(const std::string& catalog) {
  constexpr std::uint64_t kMaxOffset = std::uint64_t{1} << 62;
  RangeSet read;
  const auto earlier = Catalog::open(catalog, Database::How::read);
  Statement rows =
      earlier->database().prepare("SELECT offset, length FROM block WHERE kind <> 'unreadable'");
  while (rows.step())
    if (const Range range{rows.number(0), rows.number(1)};
        range.offset <= kMaxOffset && range.length <= kMaxOffset)
      read.add(range);
  read.settle();
  return read;
}

}  // namespace lantern
