#include "serve/live_disk.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <bit>
#include <mutex>

#include "base/block_cache.h"
#include "lantern/error.h"
#include "repair/apply/in_place.h"
#include "source/writable_source.h"

namespace lantern {
namespace {

// What was written is read at once, so that nothing may be kept.
Session uncached(const Session& session, const std::shared_ptr<Scratch>& scratch) {
  Context context = session.context();
  context.cache = std::make_shared<BlockCache>(0);
  context.scratch = scratch;
  return session.with(std::move(context));
}

// What of a file changes when somebody writes to it, or puts another in its place.
std::string stamp_of(const std::string& path) {
  struct stat facts {};
  if (::stat(path.c_str(), &facts) != 0) return "gone";
  if (!S_ISREG(facts.st_mode)) return {};
  return fmt::format("{} {} {} {}.{}", facts.st_dev, facts.st_ino, facts.st_size,
                     facts.st_mtim.tv_sec, facts.st_mtim.tv_nsec);
}

// An image that has none of its own has those its partition table was made for.
std::uint32_t sector_of(const DiskLayer& disk) {
  constexpr std::uint32_t kMax = 4096;
  const std::uint32_t bytes = disk.bytes->logical_sector_size().value_or(disk.table.sector_size);
  return std::has_single_bit(bytes) && bytes >= kSector && bytes <= kMax
             ? bytes
             : static_cast<std::uint32_t>(kSector);
}

}  // namespace

std::optional<Target> shown_disk(const Target& target) {
  if (!target.disk().of_catalog) return target;
  if (target.volume || target.disk().inputs.empty()) return std::nullopt;
  Target swept = target;
  swept.disks.back() = std::dynamic_pointer_cast<const DiskLayer>(target.disk().inputs.front());
  return swept.disks.back() ? std::optional(swept) : std::nullopt;
}

LiveDisk::LiveDisk(const Target& target, const Session& session, const WriteOptions& writes)
    : source_(target.disk().address), session_(session), writes_(writes) {
  const DiskLayer& disk = target.disk();
  const std::uint32_t sector = sector_of(disk);
  if (!target.volume)
    raws_.push_back({"disk", disk.address.print(), {0, disk.bytes->size()}, {}, sector});
  for (const VolumeLayer& volume : disk.volumes) {
    if (!volume.bytes || (target.volume && target.volume.get() != &volume)) continue;
    const std::string name = "volume-" + std::to_string(volume.row.number);
    raws_.push_back({name,
                     volume.address.print(),
                     intersect(volume.row.range, {0, disk.bytes->size()}),
                     {},
                     sector});
    // What is written reaches the disk as it is stored.
    if (writes.how == Writes::none && volume.content() && volume.content() != volume.bytes)
      raws_.push_back({name + "-decrypted",
                       volume.address.print(),
                       {0, volume.content()->size()},
                       volume.content(),
                       sector});
  }
  flat_ = disk.bytes;
  // In place the files are held alone, and nobody else changes them.
  if (writes.how != Writes::in_place)
    for (const std::string& path : bottom_sources(target)) {
      lock_.hold(path);
      files_.push_back({path, stamp_of(path)});
    }
  if (writes.how == Writes::none) return;
  std::shared_ptr<Scratch> scratch = session.context().scratch;
  if (writes.how == Writes::in_place) {
    in_place_ = std::make_unique<repair::InPlace>(target, session, writes.guards);
    scratch = in_place_->scratch();
  }
  if (!scratch)
    throw Error(ErrorCode::usage, source_.print(), std::nullopt,
                "writes need a place: an overlay file, or the disk itself",
                {Do::scratch, " FILE, or --in-place"});
  session_ = uncached(session, scratch);
  open();
  // Who holds a file is not asked again: an answer may wait for one who waits for what is served
  // from here.
  OpenOptions alone = session_.options();
  alone.host = nullptr;
  session_ = Session(std::move(alone), session_.context());
}

LiveDisk::~LiveDisk() = default;

// A block that got a place is found by what is opened anew alone.
void LiveDisk::open() {
  flat_ = session_.with(session_.context()).open_disk(source_).disk().bytes;
}

ReadResult LiveDisk::read(const Raw& raw, std::uint64_t offset, std::span<std::byte> out) const {
  // Blocks of two states of a disk are no disk.
  if (changed_)
    throw Error(ErrorCode::cannot_read, raw.address, offset, "was changed by another program");
  const Range asked = intersect({offset, out.size()}, {0, raw.range.length});
  const std::shared_lock lock(mutex_);
  ReadResult got = bytes_of(raw).read(raw.range.offset + offset,
                                      out.first(static_cast<std::size_t>(asked.length)));
  for (Range& lost : got.unreadable) lost.offset -= raw.range.offset;
  return got;
}

void LiveDisk::extents(const Raw& raw, Range range, const ExtentVisitor& visit) const {
  const Range asked = intersect(range, {0, raw.range.length});
  const std::shared_lock lock(mutex_);
  bytes_of(raw).extents({raw.range.offset + asked.offset, asked.length}, [&](const Extent& extent) {
    Extent own = extent;
    own.range.offset -= raw.range.offset;
    return visit(own);
  });
}

void LiveDisk::write(const Raw& raw, std::uint64_t offset, std::span<const std::byte> bytes) {
  if (!is_writable()) throw Error(ErrorCode::refused, raw.address, offset, "is read-only");
  if (offset > raw.range.length || bytes.size() > raw.range.length - offset)
    throw Error(ErrorCode::unsupported, raw.address, offset, "ends here");
  if (bytes.empty()) return;
  bool full = false;
  {
    const std::unique_lock lock(mutex_);
    if (!write_through(flat_, raw.range.offset + offset, bytes)) open();
    full = in_place_ && in_place_->is_full();
  }
  if (full) flush();
}

std::string LiveDisk::look_for_changes() {
  for (const Watched& file : files_) {
    if (stamp_of(file.path) == file.stamp) continue;
    changed_ = true;
    return file.path +
           " was changed by another program while it was served: nothing is read from "
           "it any more";
  }
  return {};
}

void LiveDisk::flush() {
  if (!in_place_) return;
  const std::unique_lock lock(mutex_);
  in_place_->flush();
}

void LiveDisk::close() {
  if (!in_place_) return;
  const std::unique_lock lock(mutex_);
  in_place_->close();
}

}  // namespace lantern
