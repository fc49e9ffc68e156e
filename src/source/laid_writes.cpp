#include "source/laid_writes.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <mutex>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/given.h"
#include "source/writable_source.h"

namespace lantern {
namespace {

// Longer writes are noted in pieces, so that none is held in memory more than once.
constexpr std::size_t kPieceBytes = 1u << 20;

std::string full_path(const std::string& path) {
  std::error_code error;
  const auto canonical = std::filesystem::weakly_canonical(path, error);
  return error ? path : canonical.string();
}

}  // namespace

class LaidWrites::File final : public ByteSource {
 public:
  File(std::shared_ptr<LaidWrites> scratch, std::string path)
      : scratch_(std::move(scratch)), path_(std::move(path)) {}

  std::uint64_t size() const override {
    const std::shared_lock lock(scratch_->mutex_);
    return scratch_->files_.at(path_).size_bytes;
  }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return inner()->logical_sector_size();
  }
  std::optional<std::uint32_t> physical_sector_size() const override {
    return inner()->physical_sector_size();
  }

  void write(std::uint64_t offset, ByteView bytes, bool flush_before) const {
    scratch_->write(path_, offset, bytes, flush_before);
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    scratch_->read(path_, offset, out, unreadable);
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    std::vector<Range> laid;
    SourcePtr inner;
    {
      const std::shared_lock lock(scratch_->mutex_);
      const Laid& file = scratch_->files_.at(path_);
      inner = file.inner;
      auto piece = file.pieces.upper_bound(range.offset);
      if (piece != file.pieces.begin()) --piece;
      for (; piece != file.pieces.end() && piece->first < range.end(); ++piece)
        if (const Range part = intersect({piece->first, piece->second.length}, range);
            !part.empty())
          laid.push_back(part);
    }
    bool going = true;
    const auto below = [&](std::uint64_t from, std::uint64_t to) {
      const Range inside = intersect({from, to - from}, {0, inner->size()});
      inner->extents(inside, [&](const Extent& extent) { return going = visit(extent); });
      const std::uint64_t told = std::max(from, inside.empty() ? from : inside.end());
      if (going && told < to) going = visit({ExtentKind::unallocated, {told, to - told}, {}, {}});
    };
    std::uint64_t at = range.offset;
    for (const Range& part : laid) {
      if (going && part.offset > at) below(at, part.offset);
      if (going) going = visit({ExtentKind::overlaid, part, {}, {}});
      at = part.end();
    }
    if (going && at < range.end()) below(at, range.end());
    return going;
  }

 private:
  SourcePtr inner() const {
    const std::shared_lock lock(scratch_->mutex_);
    return scratch_->files_.at(path_).inner;
  }

  std::shared_ptr<LaidWrites> scratch_;
  std::string path_;
};

LaidWrites::LaidWrites(std::unique_ptr<WriteLog> log, std::shared_ptr<Scratch> below)
    : log_(std::move(log)), below_(std::move(below)) {}

std::shared_ptr<Scratch> Scratch::in_memory(std::int64_t now_seconds,
                                            std::shared_ptr<Scratch> below) {
  return std::make_shared<LaidWrites>(WriteLog::in_memory(now_seconds), std::move(below));
}

std::shared_ptr<Scratch> Scratch::in_file(const std::string& path, std::int64_t now_seconds) {
  std::error_code error;
  const bool there = std::filesystem::exists(std::filesystem::symlink_status(path, error));
  auto log = there ? WriteLog::open(path) : WriteLog::create(path, {0, now_seconds, 0});
  if (log->last_mark())
    throw Error(ErrorCode::refused, path, std::nullopt,
                "is the journal of an applied repair, not an overlay file",
                {Do::undo, " takes that repair back; name another file"});
  return std::make_shared<LaidWrites>(std::move(log), nullptr);
}

SourcePtr LaidWrites::over(const std::string& path, SourcePtr inner) {
  const std::string name = full_path(path);
  given(inner);
  if (below_) inner = LaidWrites::of(*below_).over(path, std::move(inner));
  const std::unique_lock lock(mutex_);
  auto [found, added] = files_.try_emplace(name);
  Laid& laid = found->second;
  laid.inner = inner;
  if (added) {
    laid.size_bytes = inner->size();
    const auto& files = log_->files();
    const auto known = std::find_if(files.begin(), files.end(),
                                    [&](const WriteLog::File& f) { return f.path == name; });
    if (known != files.end()) {
      laid.number = static_cast<std::uint32_t>(known - files.begin());
      if (known->size_bytes != inner->size() ||
          known->samples_sha256 != identify(*inner).samples_sha256)
        throw Error(ErrorCode::refused, name, std::nullopt,
                    "has changed since the overlay file was begun",
                    "begin a new one: what it holds does not fit the disk any more");
      for (const WriteLog::Write& write : log_->writes())
        if (write.file == laid.number) lay(laid, write.offset, {write.length, write.at});
    }
  }
  return std::make_shared<File>(shared_from_this(), name);
}

void LaidWrites::begin_step(const std::string& name) {
  const std::unique_lock lock(mutex_);
  log_->add_step(name);
}

void LaidWrites::lay(Laid& laid, std::uint64_t offset, Piece piece) {
  const std::uint64_t end = offset + piece.length;
  auto at = laid.pieces.lower_bound(offset);
  if (at != laid.pieces.begin()) {
    const auto before = std::prev(at);
    const std::uint64_t before_end = before->first + before->second.length;
    if (before_end > end)
      laid.pieces[end] = {before_end - end, before->second.at + (end - before->first)};
    if (before_end > offset) before->second.length = offset - before->first;
  }
  at = laid.pieces.lower_bound(offset);
  while (at != laid.pieces.end() && at->first < end) {
    const std::uint64_t at_end = at->first + at->second.length;
    if (at_end > end) laid.pieces[end] = {at_end - end, at->second.at + (end - at->first)};
    at = laid.pieces.erase(at);
  }
  laid.pieces[offset] = piece;
  laid.size_bytes = std::max(laid.size_bytes, end);
}

void LaidWrites::write(const std::string& path, std::uint64_t offset, ByteView bytes,
                       bool flush_before) {
  for (std::size_t done = 0; done < bytes.size(); done += kPieceBytes) {
    const ByteView part = bytes.subspan(done, std::min(kPieceBytes, bytes.size() - done));
    std::vector<Range> unreadable;
    Bytes before(part.size());
    {
      const std::shared_lock lock(mutex_);
      const auto file = files_.find(path);
      if (file == files_.end())
        throw Error(ErrorCode::usage, path, std::nullopt,
                    "what was not opened through here cannot be overlaid");
      const std::uint64_t size = file->second.size_bytes;
      const std::uint64_t room = size - std::min(size, offset + done);
      before.resize(static_cast<std::size_t>(std::min<std::uint64_t>(before.size(), room)));
    }
    read(path, offset + done, before, unreadable);
    if (!unreadable.empty())
      throw Error(ErrorCode::cannot_write, path, unreadable.front().offset,
                  "what is there cannot be read, so it could not be brought back",
                  "make an image of the disk first, and repair that");
    const std::unique_lock lock(mutex_);
    Laid& laid = files_.at(path);
    if (laid.number == Laid::kNone) {
      const Identity identity = identify(*laid.inner);
      laid.number = log_->add_file({path, identity.size_bytes, identity.samples_sha256, {}});
    }
    const WriteLog::Write& noted = log_->add_write(
        laid.number, offset + done, (flush_before && done == 0) || flush_next_, part, before);
    flush_next_ = false;
    lay(laid, noted.offset, {noted.length, noted.at});
  }
}

void LaidWrites::flush() {
  const std::unique_lock lock(mutex_);
  flush_next_ = true;
}

void LaidWrites::each_change(const std::function<void(const Change&)>& visit) const {
  const std::shared_lock lock(mutex_);
  for (const auto& [path, laid] : files_)
    for (const auto& [offset, piece] : laid.pieces)
      for (std::uint64_t done = 0; done < piece.length; done += kPieceBytes) {
        Change change{path, offset + done, {}, {}};
        change.after.resize(
            static_cast<std::size_t>(std::min<std::uint64_t>(kPieceBytes, piece.length - done)));
        log_->read(piece.at + done, change.after);
        const std::uint64_t size = laid.inner->size();
        change.before.resize(static_cast<std::size_t>(
            std::min<std::uint64_t>(change.after.size(), size - std::min(size, change.offset))));
        laid.inner->read(change.offset, change.before);
        visit(change);
      }
}

std::uint64_t LaidWrites::laid_bytes() const {
  const std::shared_lock lock(mutex_);
  return log_->bytes();
}

void LaidWrites::settle(const std::function<SourcePtr(const std::string& path)>& open) {
  const std::unique_lock lock(mutex_);
  log_ = WriteLog::in_memory(log_->header().made_at);
  for (auto& [path, laid] : files_) {
    if (laid.pieces.empty()) continue;
    laid.inner = open(path);
    laid.pieces.clear();
    laid.number = Laid::kNone;
    laid.size_bytes = laid.inner->size();
  }
}

bool LaidWrites::first_time(const std::string& name) {
  const std::unique_lock lock(mutex_);
  return asked_.insert(name).second;
}

void LaidWrites::read(const std::string& path, std::uint64_t offset, std::span<std::byte> out,
                      std::vector<Range>& unreadable) const {
  const std::shared_lock lock(mutex_);
  const Laid& laid = files_.at(path);
  const ReadResult got = laid.inner->read(offset, out);
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(got.length), out.end(), std::byte{0});
  std::vector<Range> lost = got.unreadable;
  const Range asked{offset, out.size()};
  auto at = laid.pieces.upper_bound(offset);
  if (at != laid.pieces.begin()) --at;
  for (; at != laid.pieces.end() && at->first < asked.end(); ++at) {
    const Range part = intersect({at->first, at->second.length}, asked);
    if (part.empty()) continue;
    log_->read(at->second.at + (part.offset - at->first),
               out.subspan(static_cast<std::size_t>(part.offset - offset),
                           static_cast<std::size_t>(part.length)));
    std::vector<Range> left;
    for (const Range& range : lost) {
      if (range.offset < part.offset)
        left.push_back({range.offset, std::min(range.end(), part.offset) - range.offset});
      const std::uint64_t from = std::max(range.offset, part.end());
      if (range.end() > from) left.push_back({from, range.end() - from});
    }
    lost = std::move(left);
  }
  unreadable.insert(unreadable.end(), lost.begin(), lost.end());
}

bool write_through(const SourcePtr& layer, std::uint64_t offset, ByteView bytes,
                   bool flush_before) {
  if (const auto* const file = dynamic_cast<const LaidWrites::File*>(layer.get())) {
    const std::uint64_t size = file->size();
    file->write(offset, bytes, flush_before);
    return file->size() == size;
  }
  const auto* const writable = dynamic_cast<const WritableSource*>(layer.get());
  if (writable == nullptr)
    throw Error(ErrorCode::unsupported, {}, offset,
                "this layer is made from others as it is read: it takes no writes",
                {Do::image_as_qcow2, " makes a copy that does"});
  if (offset > layer->size() || bytes.size() > layer->size() - offset)
    throw Error(ErrorCode::unsupported, {}, offset,
                "the file a disk lies in would have to grow, and cannot",
                {"extract it, or ", Do::image, " it, and repair that"});
  bool in_place = true;
  while (!bytes.empty()) {
    const Translation part = writable->translate(offset, bytes);
    in_place = in_place && !part.placed;
    for (const LayerWrite& write : part.writes) {
      in_place = write_through(write.below, write.offset, write.bytes,
                               write.flush_before || flush_before) &&
                 in_place;
      flush_before = false;
    }
    offset += part.covered;
    bytes = bytes.subspan(part.covered);
  }
  return in_place;
}

}  // namespace lantern
