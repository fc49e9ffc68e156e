#include "recover/sweep/finders/volume_finder.h"

namespace lantern {

void VolumeFinder::look(const SweptPiece& piece) {
  const Registry& formats = known_formats();
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    const std::byte* const sector = piece.bytes.data() + at;
    if (!formats.may_mark(sector)) continue;
    formats.marks_of(sector, [&](const Format& format) {
      hits_.add({&format, piece.offset + at});
    });
  }
}

void VolumeFinder::join(Finder& later) {
  hits_.join(static_cast<VolumeFinder&>(later).hits_);
}

void VolumeFinder::load(Database& database, std::uint64_t swept_to) {
  Statement rows =
      database.prepare("SELECT offset, format FROM hit WHERE offset < ? ORDER BY offset");
  rows.bind(1, swept_to);
  while (rows.step())
    if (const Format* const format = known_formats().find(rows.text(1)))
      hits_.add({format, rows.number(0)});
  hits_.each_new([](const SectorHit&) {});
}

std::uint64_t VolumeFinder::save(Database& database, std::uint64_t swept_to) {
  Statement add = database.prepare("INSERT OR IGNORE INTO hit VALUES(?, ?)");
  hits_.each_new(
      [&](const SectorHit& hit) { add.bind(1, hit.offset).bind(2, hit.format->name).run(); });
  return swept_to;
}

std::vector<CatalogFinder::Count> VolumeFinder::counts() const {
  return {{"volume marks", hits_.all().size()}};
}

}  // namespace lantern
