#include "lantern/report/disk_picture.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "lantern/error.h"
#include "lantern/text.h"
#include "report/place_states.h"
#include "source/reading/status.h"

namespace lantern {
namespace {

PlaceState state_of(ReadState state) {
  switch (state) {
    case ReadState::untried:
      return PlaceState::untried;
    case ReadState::left:
      return PlaceState::left;
    case ReadState::good:
      return PlaceState::good;
    case ReadState::failed:
      return PlaceState::unreadable;
    case ReadState::suspect:
      return PlaceState::suspect;
  }
  return PlaceState::untried;
}

}  // namespace

DiskPicture picture_of_copy(const std::string& copy, std::size_t places) {
  const auto status = read_reading_status(copy + ".reading");
  if (!status)
    throw Error(ErrorCode::not_found, copy, std::nullopt,
                "has no status beside it that says what of it was read",
                "name a copy that --failing made");
  DiskPicture picture;
  picture.title = fmt::format("{}, a copy of {}", copy, status->name);
  picture.disk_bytes = status->map.size();
  // Whole sectors a place.
  const std::uint64_t each =
      std::max<std::uint64_t>((picture.disk_bytes / std::max<std::size_t>(places, 1) + 4095) / 4096,
                              1) *
      4096;
  for (std::uint64_t at = 0; at < picture.disk_bytes; at += each) {
    PicturePlace place{{at, std::min(each, picture.disk_bytes - at)}, PlaceState::good, 0};
    for (const ReadMap::Run& run : status->map.runs(place.range))
      place.state = std::max(place.state, state_of(run.state));
    picture.places.push_back(place);
  }
  return picture;
}

DiskPicture picture_of_surface(const std::string& title, const SurfaceReport& report) {
  DiskPicture picture;
  picture.title = title;
  picture.disk_bytes = report.disk_bytes;
  picture.with_rates = true;
  std::vector<double> rates;
  for (const SurfacePlace& place : report.places)
    if (place.unreadable_bytes == 0) rates.push_back(SurfaceReport::rate(place));
  std::sort(rates.begin(), rates.end());
  const double middle = rates.empty() ? 0 : rates[rates.size() / 2];
  constexpr double kSlowShare = 0.25;
  std::uint64_t end = 0;
  for (const SurfacePlace& place : report.places) {
    const double rate = SurfaceReport::rate(place);
    const PlaceState state = place.unreadable_bytes > 0   ? PlaceState::unreadable
                             : rate < kSlowShare * middle ? PlaceState::slow
                                                          : PlaceState::good;
    picture.places.push_back({place.range, state, rate});
    end = place.range.end();
  }
  if (end < report.disk_bytes)
    picture.places.push_back({{end, report.disk_bytes - end}, PlaceState::untried, 0});
  return picture;
}

std::string as_text(const DiskPicture& picture, std::size_t columns) {
  std::string text;
  std::array<bool, kPlaceStates.size()> seen{};
  for (std::size_t i = 0; i < picture.places.size(); ++i) {
    const PicturePlace& place = picture.places[i];
    const auto state = static_cast<std::size_t>(place.state);
    if (i % columns == 0)
      text += fmt::format("{}{:>10}  ", i == 0 ? "" : "\n", human_size(place.range.offset));
    text += kPlaceStates.at(state).sign;
    seen.at(state) = true;
  }
  if (picture.places.empty()) return text;
  text +=
      fmt::format("\n            a sign is {};", human_size(picture.places.front().range.length));
  for (std::size_t i = 0; i < kPlaceStates.size(); ++i)
    if (seen.at(i))
      text += fmt::format(" {} {}", kPlaceStates.at(i).sign, kPlaceStates.at(i).words);
  return text + '\n';
}

}  // namespace lantern
