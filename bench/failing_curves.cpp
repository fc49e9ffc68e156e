// failing_curves [OUT.png]: how much of what is readable a failing disk has given after so much
// work, by the order of this library and by a plain reader front to back that tries each failing
// sector three times. The disks are simulated; work is reads, and the time a drive would take for
// them. Exit 1 when a disk gives less than 99 % at half of the plain reader's reads.
#include <cairo.h>
#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <functional>
#include <random>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/context.h"
#include "physical/reading/order.h"
#include "source/failing_source.h"

namespace {

using namespace lantern;

constexpr std::uint64_t kMiB = 1u << 20;
constexpr std::uint64_t kDisk = 256 * kMiB;
constexpr std::uint64_t kSector = 512;
// Of a drive: seconds.
constexpr double kSeek = 0.010, kPerMiB = 0.007, kFailure = 1.0;

class Zeros final : public ByteSource {
 public:
  std::uint64_t size() const override { return kDisk; }

 protected:
  void do_read(std::uint64_t, std::span<std::byte> out, std::vector<Range>&) const override {
    std::fill(out.begin(), out.end(), std::byte{0});
  }
};

struct Point {
  double seconds = 0;
  double good = 0;  // share of what is readable at first
};

// A simulated disk that counts what its reads cost.
class Drive {
 public:
  explicit Drive(const FaultPlan& plan)
      : source_(std::make_shared<Zeros>(), plan, [this](std::chrono::milliseconds delay) {
          seconds_ += std::chrono::duration<double>(delay).count();
        }) {}

  Tried read(Range range) {
    bytes_.resize(static_cast<std::size_t>(range.length));
    const double before = seconds_;
    const ReadResult got = source_.read_until_trouble(range.offset, bytes_);
    const bool slow = seconds_ - before > 0.1;
    const std::uint64_t good =
        got.unreadable.empty() ? got.length : got.unreadable.front().offset - range.offset;
    if (range.offset != at_) seconds_ += kSeek;
    seconds_ += kPerMiB * static_cast<double>(good) / static_cast<double>(kMiB);
    if (good < range.length) seconds_ += kFailure;
    at_ = range.offset + good;
    good_ += good;
    curve.push_back({seconds_, static_cast<double>(good_)});
    return {good, slow, false};
  }

  std::vector<Point> curve;  // one a read

 private:
  FailingSource source_;
  Bytes bytes_;
  double seconds_ = 0;
  std::uint64_t at_ = 0, good_ = 0;
};

std::vector<Point> ours(const FaultPlan& plan) {
  Drive drive(plan);
  ReadMap map(kDisk);
  read_in_order(
      map, {}, [&](Range range) { return drive.read(range); }, Context());
  return drive.curve;
}

std::vector<Point> plain(const FaultPlan& plan) {
  Drive drive(plan);
  for (std::uint64_t at = 0; at < kDisk; at += kMiB) {
    const std::uint64_t good = drive.read({at, kMiB}).good;
    // What came before the failure is kept; behind it each sector by itself.
    for (std::uint64_t s = at + good; s < at + kMiB; s += kSector)
      for (int tries = 0; tries < 3 && drive.read({s, kSector}).good == 0; ++tries) {
      }
  }
  return drive.curve;
}

FaultPlan scattered() {
  FaultPlan plan;
  std::mt19937_64 random(1);
  for (int i = 0; i < 300; ++i)
    plan.unreadable.push_back(
        {random() % (kDisk / kSector) * kSector, kSector * (1 + random() % 3)});
  return plan;
}

FaultPlan clustered() {
  FaultPlan plan;
  std::mt19937_64 random(2);
  for (int i = 0; i < 6; ++i) {
    const std::uint64_t centre = random() % (kDisk / kSector - 6000);
    for (int k = 0; k < 80; ++k)
      plan.unreadable.push_back(
          {(centre + random() % 4000) * kSector, kSector * (1 + random() % 12)});
  }
  return plan;
}

FaultPlan growing() {
  FaultPlan plan;
  // Too many reads in one place, and all around it is lost.
  plan.growing = {{{60 * kMiB, 8 * kMiB}, 4000}, {{180 * kMiB, 12 * kMiB}, 6000}};
  plan.unreadable = {{64 * kMiB, 64 * kSector}, {186 * kMiB, 200 * kSector}};
  return plan;
}

FaultPlan dead_surface() {
  FaultPlan plan;
  for (std::uint64_t at = 3 * kMiB; at < kDisk; at += 24 * kMiB)
    plan.unreadable.push_back({at, 4 * kMiB});
  return plan;
}

FaultPlan slow_zones() {
  FaultPlan plan = scattered();
  plan.unreadable.resize(40);
  for (const std::uint64_t at : {20u, 90u, 200u})
    plan.slow.push_back({{at * kMiB, 10 * kMiB}, std::chrono::milliseconds(800)});
  return plan;
}

struct Disk {
  const char* name;
  FaultPlan (*make)();
  std::vector<Point> ours, plain;
  double all = 0;  // bytes that the better of the two got
};

double share_at(const Disk& disk, const std::vector<Point>& curve, std::size_t reads) {
  return curve[std::min(reads, curve.size()) - 1].good / disk.all;
}

double share_at_time(const Disk& disk, const std::vector<Point>& curve, double seconds) {
  const auto after = std::partition_point(
      curve.begin(), curve.end(), [&](const Point& point) { return point.seconds <= seconds; });
  return after == curve.begin() ? 0 : std::prev(after)->good / disk.all;
}

// By the time a drive would take: a failure costs more than a read of a megabyte.
void draw(const std::vector<Disk>& disks, const char* file) {
  constexpr int kWidth = 1280, kHeight = 800, kColumns = 3;
  cairo_surface_t* const surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, kWidth, kHeight);
  cairo_t* const c = cairo_create(surface);
  cairo_set_source_rgb(c, 1, 1, 1);
  cairo_paint(c);
  cairo_select_font_face(c, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  const auto text = [&](double x, double y, double size, const std::string& words) {
    cairo_set_font_size(c, size);
    cairo_set_source_rgb(c, 0.2, 0.2, 0.22);
    cairo_move_to(c, x, y);
    cairo_show_text(c, words.c_str());
  };
  text(40, 40, 22, "Share of what is readable that is in the copy, by the drive's time");
  for (std::size_t i = 0; i < disks.size(); ++i) {
    const Disk& disk = disks[i];
    const double x = 60 + static_cast<double>(i % kColumns) * 415, width = 350;
    const double y = 100 + static_cast<double>(i / kColumns) * 360, height = 260;
    const double end = std::max(disk.plain.back().seconds, disk.ours.back().seconds);
    text(x, y - 14, 17, disk.name);
    for (int line = 0; line <= 4; ++line) {
      const double at = y + height - height * line / 4;
      cairo_set_source_rgb(c, 0.86, 0.86, 0.88);
      cairo_set_line_width(c, 1);
      cairo_move_to(c, x, at);
      cairo_line_to(c, x + width, at);
      cairo_stroke(c);
      text(x - 42, at + 5, 12, fmt::format("{} %", 25 * line));
    }
    text(x, y + height + 18, 12, "0");
    text(x + width - 60, y + height + 18, 12, fmt::format("{:.0f} s", end));
    const auto line = [&](const std::vector<Point>& curve, double r, double g, double b) {
      cairo_set_source_rgb(c, r, g, b);
      cairo_set_line_width(c, 2);
      cairo_move_to(c, x, y + height);
      for (const Point& point : curve)
        cairo_line_to(c, x + width * point.seconds / end,
                      y + height - height * point.good / disk.all);
      cairo_stroke(c);
    };
    line(disk.plain, 0.80, 0.45, 0.20);
    line(disk.ours, 0.13, 0.38, 0.55);
  }
  const double x = 60 + 2 * 415, y = 480;
  const auto entry = [&](double at, double r, double g, double b, const char* words) {
    cairo_set_source_rgb(c, r, g, b);
    cairo_rectangle(c, x, at - 8, 30, 4);
    cairo_fill(c);
    text(x + 42, at, 15, words);
  };
  entry(y, 0.13, 0.38, 0.55, "this library's order");
  entry(y + 30, 0.80, 0.45, 0.20, "front to back, three tries a sector");
  text(x, y + 80, 13, "A failing read costs 1 s, a seek 10 ms, 1 MiB 7 ms;");
  text(x, y + 100, 13, "in a slow zone a read takes 0.8 s more.");
  cairo_surface_write_to_png(surface, file);
  cairo_destroy(c);
  cairo_surface_destroy(surface);
}

}  // namespace

int main(int count, char** arguments) {
  std::vector<Disk> disks;
  for (const auto& [name, make] : std::initializer_list<std::pair<const char*, FaultPlan (*)()>>{
           {"scattered bad sectors", scattered},
           {"clustered bad sectors", clustered},
           {"growing bad areas", growing},
           {"one dead surface", dead_surface},
           {"slow zones", slow_zones}}) {
    Disk disk{name, make, ours(make()), plain(make()), 0};
    disk.all = std::max(disk.ours.back().good, disk.plain.back().good);
    disks.push_back(std::move(disk));
  }
  bool good = true;
  std::puts(
      "disk                    reads    plain | at half its reads: ours, plain | at half its time "
      "| in the end: ours, plain");
  for (const Disk& disk : disks) {
    const std::size_t half = disk.plain.size() / 2;
    const double time = disk.plain.back().seconds / 2;
    const double share = share_at(disk, disk.ours, half);
    fmt::print(
        "{:<22} {:>6} {:>8} | {:>18.2f} % {:>5.1f} % | {:>6.2f} % {:>5.1f} % | {:.2f} % {:.2f} %\n",
        disk.name, disk.ours.size(), disk.plain.size(), 100 * share,
        100 * share_at(disk, disk.plain, half), 100 * share_at_time(disk, disk.ours, time),
        100 * share_at_time(disk, disk.plain, time), 100 * disk.ours.back().good / disk.all,
        100 * disk.plain.back().good / disk.all);
    good = good && share >= 0.99;
  }
  if (count > 1) draw(disks, arguments[1]);
  return good ? 0 : 1;
}
