#include <cairo-svg.h>
#include <cairo.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <memory>

#include "lantern/error.h"
#include "lantern/report/disk_picture.h"
#include "lantern/text.h"
#include "report/place_states.h"

namespace lantern {
namespace {

constexpr int kWidth = 1280, kHeight = 800;  // pixels
constexpr double kMargin = 40, kLabels = 100, kHead = 90, kFoot = 70, kCurve = 220;

struct Box {
  double x = 0, y = 0, width = 0, height = 0;
};

class Drawing {
 public:
  Drawing(const DiskPicture& picture, cairo_surface_t* surface)
      : picture_(picture), cairo_(cairo_create(surface), cairo_destroy) {}

  void run() {
    colour(1, 1, 1);
    cairo_paint(cairo_.get());
    title();
    const double top = picture_.with_rates ? kHead + kCurve + 30 : kHead;
    if (picture_.with_rates)
      curve({kMargin + kLabels, kHead, kWidth - 2 * kMargin - kLabels, kCurve});
    grid({kMargin + kLabels, top, kWidth - 2 * kMargin - kLabels, kHeight - top - kFoot});
    legend();
  }

 private:
  void colour(double red, double green, double blue) {
    cairo_set_source_rgb(cairo_.get(), red, green, blue);
  }

  void text(double x, double y, double size, const std::string& words, bool to_the_left = false) {
    cairo_select_font_face(cairo_.get(), "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                           CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(cairo_.get(), size);
    cairo_text_extents_t extents;
    cairo_text_extents(cairo_.get(), words.c_str(), &extents);
    cairo_move_to(cairo_.get(), to_the_left ? x - extents.width : x, y);
    cairo_show_text(cairo_.get(), words.c_str());
  }

  void title() {
    std::uint64_t lost = 0;
    for (const PicturePlace& place : picture_.places)
      if (place.state == PlaceState::unreadable) ++lost;
    colour(0.1, 0.1, 0.12);
    text(kMargin, 44, 22, for_terminal(picture_.title));
    colour(0.4, 0.4, 0.43);
    text(kMargin, 70, 15,
         fmt::format("{}, in {} places; {} of them with unreadable sectors",
                     human_size(picture_.disk_bytes), picture_.places.size(), lost));
  }

  // Squares row by row, as text is read; as large as they can be.
  void grid(Box box) {
    const auto count = static_cast<double>(std::max<std::size_t>(picture_.places.size(), 1));
    const double side =
        std::clamp(std::floor(std::sqrt(box.width * box.height / count)), 3.0, 48.0);
    const auto columns = static_cast<std::size_t>(std::max(box.width / side, 1.0));
    const double gap = side >= 8 ? 1 : 0;
    for (std::size_t i = 0; i < picture_.places.size(); ++i) {
      const PicturePlace& place = picture_.places[i];
      const double x = box.x + static_cast<double>(i % columns) * side;
      const std::size_t row = i / columns;
      const double y = box.y + static_cast<double>(row) * side;
      if (y + side > box.y + box.height + 1) break;
      const ShownState& shown = kPlaceStates.at(static_cast<std::size_t>(place.state));
      colour(shown.red, shown.green, shown.blue);
      cairo_rectangle(cairo_.get(), x, y, side - gap, side - gap);
      cairo_fill(cairo_.get());
      const std::size_t label_rows = std::max<std::size_t>(static_cast<std::size_t>(24 / side), 1);
      if (i % columns == 0 && row % label_rows == 0) {
        colour(0.4, 0.4, 0.43);
        text(box.x - 10, y + std::min(side, 14.0), 13, human_size(place.range.offset), true);
      }
    }
  }

  // The rate by place, from 0 to the fastest.
  void curve(Box box) {
    double most = 1;
    for (const PicturePlace& place : picture_.places) most = std::max(most, place.rate);
    colour(0.85, 0.85, 0.87);
    cairo_set_line_width(cairo_.get(), 1);
    constexpr int kLines = 4;
    for (int line = 0; line <= kLines; ++line) {
      const double y = box.y + box.height - box.height * line / kLines;
      cairo_move_to(cairo_.get(), box.x, y);
      cairo_line_to(cairo_.get(), box.x + box.width, y);
      cairo_stroke(cairo_.get());
      colour(0.4, 0.4, 0.43);
      const auto rate = static_cast<std::uint64_t>(most * line / kLines);
      text(box.x - 10, y + 5, 13, human_size(rate) + "/s", true);
      colour(0.85, 0.85, 0.87);
    }
    colour(0.13, 0.38, 0.55);
    cairo_set_line_width(cairo_.get(), 1.5);
    cairo_new_path(cairo_.get());  // a text leaves a point behind
    const auto disk = static_cast<double>(std::max<std::uint64_t>(picture_.disk_bytes, 1));
    for (const PicturePlace& place : picture_.places) {
      if (place.state == PlaceState::untried) continue;
      const double y = box.y + box.height - box.height * place.rate / most;
      const double x = box.x + box.width * static_cast<double>(place.range.offset) / disk;
      const double to = box.x + box.width * static_cast<double>(place.range.end()) / disk;
      cairo_line_to(cairo_.get(), x, y);
      cairo_line_to(cairo_.get(), to, y);
    }
    cairo_stroke(cairo_.get());
  }

  void legend() {
    double x = kMargin + kLabels;
    const double y = kHeight - 30;
    for (std::size_t i = 0; i < kPlaceStates.size(); ++i) {
      const ShownState& shown = kPlaceStates.at(i);
      const auto is_shown = [&](const PicturePlace& place) {
        return static_cast<std::size_t>(place.state) == i;
      };
      if (std::none_of(picture_.places.begin(), picture_.places.end(), is_shown)) continue;
      colour(shown.red, shown.green, shown.blue);
      cairo_rectangle(cairo_.get(), x, y - 13, 16, 16);
      cairo_fill(cairo_.get());
      colour(0.2, 0.2, 0.22);
      text(x + 24, y, 15, std::string(shown.words));
      x += 60 + 9 * static_cast<double>(shown.words.size());
    }
    if (!picture_.places.empty()) {
      colour(0.4, 0.4, 0.43);
      text(kWidth - kMargin, y, 15,
           "a square is " + human_size(picture_.places.front().range.length), true);
    }
  }

  const DiskPicture& picture_;
  std::unique_ptr<cairo_t, decltype(&cairo_destroy)> cairo_;
};

}  // namespace

void draw(const DiskPicture& picture, const std::string& file) {
  const bool png = file.ends_with(".png");
  if (!png && !file.ends_with(".svg"))
    throw Error(ErrorCode::usage, file, std::nullopt, "a picture ends in .png or .svg",
                "give it such a name");
  std::error_code error;
  if (std::filesystem::exists(std::filesystem::symlink_status(file, error)))
    throw Error(ErrorCode::refused, file, std::nullopt, "is there already",
                "choose another name; nothing is replaced");
  using Surface = std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)>;
  const Surface surface(png ? cairo_image_surface_create(CAIRO_FORMAT_RGB24, kWidth, kHeight)
                            : cairo_svg_surface_create(file.c_str(), kWidth, kHeight),
                        cairo_surface_destroy);
  Drawing(picture, surface.get()).run();
  if (png) cairo_surface_write_to_png(surface.get(), file.c_str());
  cairo_surface_finish(surface.get());
  const cairo_status_t status = cairo_surface_status(surface.get());
  if (status != CAIRO_STATUS_SUCCESS || !std::filesystem::exists(file, error))
    throw Error(ErrorCode::cannot_write, file, std::nullopt, cairo_status_to_string(status),
                "choose another place");
}

}  // namespace lantern
