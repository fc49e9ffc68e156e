#include "survey/sweep_worth.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/bytes.h"
#include "lantern/text.h"

namespace lantern::survey_parts {
namespace {

constexpr std::uint64_t kLooks = 64;  // places of a volume
constexpr std::size_t kLooked = 4096;
constexpr std::uint64_t kTimed = 8u << 20, kStep = 256u << 10;
constexpr double kMaxSeconds = 0.5;
constexpr std::uint64_t kFewDeleted = 20;  // entries
constexpr std::uint64_t kMinLeft = 4;      // places with data that no file has

struct Stored {
  std::uint64_t bytes = 0;
  Range largest;
  bool damaged = false;
};

Stored stored_of(const ByteSource& disk) {
  Stored stored;
  disk.extents({0, disk.size()}, [&](const Extent& extent) {
    stored.damaged = stored.damaged || extent.kind == ExtentKind::unreadable;
    if (extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated ||
        extent.kind == ExtentKind::unreadable)
      return true;
    stored.bytes += extent.range.length;
    if (extent.range.length > stored.largest.length) stored.largest = extent.range;
    return true;
  });
  return stored;
}

std::optional<double> seconds_for(const ByteSource& disk, const Stored& stored) {
  if (stored.damaged || stored.bytes == 0) return std::nullopt;
  const std::uint64_t most = std::min<std::uint64_t>(kTimed, stored.largest.length);
  // From the middle: what is at the start was read already.
  const std::uint64_t from = stored.largest.offset + (stored.largest.length - most) / 2;
  Bytes buffer(static_cast<std::size_t>(std::min(most, kStep)));
  const auto begun = std::chrono::steady_clock::now();
  double took = 0;
  std::uint64_t done = 0;
  // A disk that fails is not made to work for this.
  while (done < most && took < kMaxSeconds) {
    const ReadResult got = disk.read(from + done, buffer);
    if (got.length == 0 || !got.unreadable.empty()) return std::nullopt;
    done += got.length;
    took = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  }
  return took * static_cast<double>(stored.bytes) / static_cast<double>(done);
}

// Bytes of a volume that hold something where no active file, and nothing of the file system, is:
// by some places of it.
std::uint64_t left_over(const SurveyVolume& volume, const Context& context) {
  const ByteSource& bytes = *volume.layer->bytes;
  const std::uint64_t size = bytes.size();
  const std::uint64_t step = std::max<std::uint64_t>(size / kLooks, kLooked);
  Bytes piece(kLooked);
  std::uint64_t found = 0;
  for (std::uint64_t at = step / 2; at < size; at += step) {
    context.check_cancelled();
    const Range here = intersect({at, kLooked}, {0, size});
    if (known_zero(bytes, here)) continue;
    bool in_use = false;
    volume.layer->file_system()->allocation(here, [&](Range, bool used) {
      in_use = in_use || used;
      return !in_use;
    });
    if (in_use) continue;
    const std::size_t got = bytes.read(at, piece).length;
    found += !all_zero(ByteView(piece).first(got));
  }
  return found < kMinLeft ? 0 : found * step;
}

}  // namespace

SurveySweep weigh_sweep(const DiskLayer& disk, std::span<const SurveyVolume> volumes,
                        const Context& context) {
  SurveySweep sweep;
  sweep.address = disk.address.print();
  const Stored stored = stored_of(*disk.bytes);
  sweep.bytes = stored.bytes;
  if (stored.bytes == 0) {
    sweep.why = "nothing is stored on it";
    return sweep;
  }
  if (stored.damaged) {
    sweep.why = "some of it is unreadable: copy it with image first, and sweep the copy";
    return sweep;
  }
  sweep.seconds = seconds_for(*disk.bytes, stored);
  std::size_t open = 0;
  for (const SurveyVolume& volume : volumes) {
    if (!volume.layer->file_system() || !volume.layer->bytes) continue;
    ++open;
    const bool nearly_empty = volume.counted_all && volume.deleted < kFewDeleted;
    const std::uint64_t left = nearly_empty ? left_over(volume, context) : 0;
    if (left <= volume.used_bytes) continue;
    sweep.worth = true;
    sweep.why = fmt::format("in {} some {} hold data that no entry tells of, as after a format",
                            volume.layer->address.print(), human_size(left));
    return sweep;
  }
  const auto closed = std::count_if(volumes.begin(), volumes.end(), [](const SurveyVolume& volume) {
    return !volume.layer->file_system() && volume.may_hold_files;
  });
  sweep.worth = closed > 0 || volumes.empty();
  if (sweep.worth && open == 0)
    sweep.why = "no volume opens";
  else if (sweep.worth)
    sweep.why = fmt::format("{} of {} volumes do not open", closed, volumes.size());
  else
    sweep.why = open > 0 ? "what is here opens" : "no lost volume is to be expected here";
  return sweep;
}

}  // namespace lantern::survey_parts
