#include "lantern/physical/surface.h"

#include <algorithm>

#include "lantern/error.h"
#include "physical/reading/timed_reads.h"
#include "source/given.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSurfacePiece = 1u << 20;  // bytes read at once where all is well
constexpr std::uint64_t kBehind = 64u << 10;       // passed over behind a failure

class SurfaceCheck {
 public:
  SurfaceCheck(const SourcePtr& disk, const SurfaceOptions& options, const Context& context)
      : reads_(disk, options.give_up, context), context_(context) {
    report_.disk_bytes = disk->size();
    place_bytes_ =
        std::max(kSurfacePiece,
                 (disk->size() / std::max<std::size_t>(options.places, 1) + kSurfacePiece - 1) /
                     kSurfacePiece * kSurfacePiece);
  }

  SurfaceReport run() {
    try {
      for (std::uint64_t at = 0; at < report_.disk_bytes; at += place_bytes_) {
        report_.places.push_back({{at, std::min(place_bytes_, report_.disk_bytes - at)}});
        check(report_.places.back());
      }
    } catch (const Error& error) {
      if (error.code() != ErrorCode::stopped && error.code() != ErrorCode::cannot_read) throw;
      report_.stopped = true;
      report_.why_stopped = error.what();
      report_.places.pop_back();
    }
    return std::move(report_);
  }

 private:
  void check(SurfacePlace& place) {
    for (std::uint64_t at = place.range.offset; at < place.range.end();) {
      context_.check_cancelled();
      const Range piece{at, std::min(kSurfacePiece, place.range.end() - at)};
      const TimedReads::Answer answer = reads_.read(piece);
      ++report_.reads;
      const double seconds = std::chrono::duration<double>(answer.took).count();
      place.seconds += seconds;
      place.slowest_seconds = std::max(place.slowest_seconds, seconds);
      at += answer.good.size();
      if (answer.good.size() < piece.length) {
        const Range lost{at, std::min(at / kBehind * kBehind + kBehind, piece.end()) - at};
        place.unreadable_bytes += lost.length;
        std::vector<Range>& all = report_.unreadable;
        if (!all.empty() && all.back().end() == at)
          all.back().length += lost.length;
        else
          all.push_back(lost);
        at = lost.end();
      }
      if (context_.progress) context_.progress->update(at, report_.disk_bytes, "surface");
    }
  }

  TimedReads reads_;
  Context context_;
  std::uint64_t place_bytes_ = 0;
  SurfaceReport report_;
};

}  // namespace

double SurfaceReport::rate(const SurfacePlace& place) {
  const std::uint64_t read = place.range.length - place.unreadable_bytes;
  return place.seconds > 0 ? static_cast<double>(read) / place.seconds : 0;
}

SurfaceReport check_surface(const SourcePtr& disk, const SurfaceOptions& options,
                            const Context& context) {
  return SurfaceCheck(given(disk), options, context).run();
}

}  // namespace lantern
