// A disk as a picture, place by place: what of it was read, or how fast each place came.
//
//   const DiskPicture picture = picture_of_copy("skua.img");
//   std::cout << as_text(picture, 64);
//   draw(picture, "skua.svg");
//
// Thread-safety: pure but for the files.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/physical/surface.h"

namespace lantern {

// From best to worst: where a place holds several, the worst is shown.
enum class PlaceState { good, slow, suspect, untried, left, unreadable };

struct PicturePlace {
  Range range;         // bytes of the disk
  PlaceState state{};  // the worst in it
  double rate = 0;     // bytes a second; 0: not known
};

struct DiskPicture {
  std::string title;
  std::uint64_t disk_bytes = 0;
  std::vector<PicturePlace> places;  // in order, without gaps
  bool with_rates = false;
};

// Of a copy by --failing, by the status beside it; `places`: at most so many. Throws
// Error{not_found, refused}.
DiskPicture picture_of_copy(const std::string& copy, std::size_t places = 2048);
// A place that came with less than a quarter of the middle rate is slow.
DiskPicture picture_of_surface(const std::string& title, const SurfaceReport& report);

// Rows of `columns` signs, each with the byte it begins at, and what the signs mean.
std::string as_text(const DiskPicture& picture, std::size_t columns);

// Draws it, 1280 by 800, as PNG or SVG by the ending of the name; nothing is replaced. Throws
// Error{usage}: another ending; Error{refused, cannot_write}; Error{unsupported}: built without.
void draw(const DiskPicture& picture, const std::string& file);

}  // namespace lantern
