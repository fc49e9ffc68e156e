#include "physical/reading/disk_copy.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <memory>

#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using Steady = std::chrono::steady_clock;

constexpr std::chrono::seconds kBetweenNotes{2};
constexpr int kNoteShare = 20;  // a status of many runs takes no more of the time than 1 in 20
constexpr std::size_t kBlock = 4096;  // of zeros that become a hole
constexpr std::uint64_t kCopied = 1u << 20;
constexpr std::size_t kSampled = 64;  // places that two copies of a disk have in common

void add_to(std::vector<Range>& ranges, Range range) {
  if (!ranges.empty() && ranges.back().end() == range.offset)
    ranges.back().length += range.length;
  else
    ranges.push_back(range);
}

// The more is known of a byte, the higher.
int rank(ReadState state) {
  switch (state) {
    case ReadState::untried:
      return 0;
    case ReadState::left:
      return 1;
    case ReadState::failed:
      return 2;
    case ReadState::suspect:
      return 3;
    case ReadState::good:
      return 4;
  }
  return 0;
}

}  // namespace

DiskCopy::DiskCopy(std::string path, std::string name, std::uint64_t size_bytes,
                   const Context& context)
    : path_(std::move(path)),
      part_(path_ + ".part"),
      status_path_(path_ + ".reading"),
      context_(context),
      status_{std::move(name), ReadMap(size_bytes)} {
  std::error_code error;
  if (std::filesystem::exists(std::filesystem::symlink_status(path_, error)))
    throw Error(ErrorCode::refused, path_, std::nullopt, "is there already",
                "choose another name; nothing is replaced");
  take_up();
  // First the status: a run that is killed now leaves nothing that is taken for another's.
  if (!resumed_) write_reading_status(status_path_, status_);
  out_.emplace(part_, resumed_);
  out_->set_length(size_bytes);
  next_note_ = Steady::now() + kBetweenNotes;
}

void DiskCopy::take_up() {
  auto before = read_reading_status(status_path_);
  std::error_code error;
  if (!before && std::filesystem::exists(part_, error))
    throw Error(ErrorCode::refused, part_, std::nullopt,
                "is the unfinished copy of a run without --failing",
                "go on with that, or choose another name");
  if (!before || before->map.bytes(ReadState::good) == 0) return;
  const std::uint64_t size = status_.map.size();
  if (std::filesystem::file_size(part_, error) != size || error || before->map.size() != size)
    throw Error(ErrorCode::refused, status_path_, std::nullopt,
                fmt::format("belongs to a disk of {} bytes and a copy of it that is not here; "
                            "this disk has {}",
                            before->map.size(), size),
                "choose another name for the copy");
  status_ = std::move(*before);
  resumed_ = true;
}

SourcePtr DiskCopy::bytes() const {
  return open_file_source(part_, context_);
}

// Zeros are a hole already: nothing else was ever written there, but over a suspect.
void DiskCopy::write(std::uint64_t offset, ByteView bytes) {
  const auto is_zero = [&](std::size_t at) {
    return all_zero(bytes.subspan(at, std::min(kBlock, bytes.size() - at)));
  };
  for (std::size_t at = 0; at < bytes.size();) {
    std::size_t end = at;
    while (end < bytes.size() && !is_zero(end)) end += std::min(kBlock, bytes.size() - end);
    if (end > at) out_->write(offset + at, bytes.subspan(at, end - at));
    for (at = end; at < bytes.size() && is_zero(at);) at += std::min(kBlock, bytes.size() - at);
  }
}

void DiskCopy::note(bool at_once) {
  const auto began = Steady::now();
  if (!at_once && began < next_note_) return;
  out_->sync();
  write_reading_status(status_path_, status_);
  const auto ended = Steady::now();
  next_note_ = ended + std::max<Steady::duration>(kBetweenNotes, kNoteShare * (ended - began));
}

void DiskCopy::take_over(const std::string& copy) {
  auto status = read_reading_status(copy + ".reading");
  std::error_code error;
  if (!status)
    throw Error(ErrorCode::refused, copy, std::nullopt,
                "has no status beside it that says what of it was read",
                "name a copy that --failing made");
  const std::string image = std::filesystem::exists(copy, error) ? copy : copy + ".part";
  const SourcePtr other = open_file_source(image, context_);
  if (status->map.size() != status_.map.size() || other->size() != status_.map.size())
    throw Error(ErrorCode::refused, copy, std::nullopt,
                fmt::format("is of a disk of {} bytes, this one has {}", status->map.size(),
                            status_.map.size()),
                "join copies of one disk");
  refuse_another_disk(*other, status->map, copy);
  const SourcePtr ours = bytes();
  for (const ReadMap::Run& run : status->map.runs()) take_run(*other, *ours, run);
  note();
}

// What both have must be the same, but for a little that a failing disk gives wrong.
void DiskCopy::refuse_another_disk(const ByteSource& other, const ReadMap& map,
                                   const std::string& path) {
  std::vector<Range> both;
  for (const ReadMap::Run& run : map.runs())
    if (run.state == ReadState::good)
      for (const ReadMap::Run& own : status_.map.runs(run.range))
        if (own.state == ReadState::good && own.range.length >= kSector) both.push_back(own.range);
  const SourcePtr ours = bytes();
  const std::size_t step = std::max<std::size_t>(both.size() / kSampled, 1);
  std::size_t same = 0, different = 0;
  Bytes one(kSector), two(kSector);
  for (std::size_t i = 0; i < both.size(); i += step) {
    ours->read(both[i].offset, one);
    other.read(both[i].offset, two);
    ++(one == two ? same : different);
  }
  if (different > same)
    throw Error(ErrorCode::refused, path, std::nullopt,
                "holds other bytes than this copy in most places: it is of another disk",
                "join copies of one disk");
}

void DiskCopy::take_run(const ByteSource& other, const ByteSource& ours, const ReadMap::Run& run) {
  const bool has = run.state == ReadState::good || run.state == ReadState::suspect;
  Bytes theirs, own_bytes;
  for (const ReadMap::Run& own : status_.map.runs(run.range)) {
    if (rank(own.state) < rank(run.state) && !has) {
      status_.map.set(own.range, run.state, run.tries);
      continue;
    }
    if (own.state == run.state && run.state == ReadState::failed)
      status_.map.set(own.range, run.state, std::max(own.tries, run.tries));
    if (!has) continue;
    for (std::uint64_t at = own.range.offset; at < own.range.end(); at += kCopied) {
      context_.check_cancelled();
      const Range piece{at, std::min(kCopied, own.range.end() - at)};
      theirs.resize(static_cast<std::size_t>(piece.length));
      other.read(at, theirs);
      if (rank(own.state) < rank(run.state)) {
        // Over a suspect zeros have to be written, too.
        own.state == ReadState::suspect ? out_->write(at, theirs) : write(at, theirs);
        status_.map.set(piece, run.state);
      } else if (own.state == ReadState::good && run.state == ReadState::good) {
        own_bytes.resize(theirs.size());
        ours.read(at, own_bytes);
        for (std::size_t i = 0; i < theirs.size(); i += kSector) {
          const std::size_t length = std::min<std::size_t>(kSector, theirs.size() - i);
          if (!std::equal(theirs.begin() + static_cast<std::ptrdiff_t>(i),
                          theirs.begin() + static_cast<std::ptrdiff_t>(i + length),
                          own_bytes.begin() + static_cast<std::ptrdiff_t>(i)))
            status_.map.set({at + i, length}, ReadState::suspect);
        }
      }
    }
  }
}

void DiskCopy::finish() {
  note();
  out_->finish(path_);
}

std::string hash_rest(const ByteSource& image, std::uint64_t from, HashThread& thread,
                      const Context& context) {
  for (std::uint64_t at = from; at < image.size(); at += kCopied) {
    context.check_cancelled();
    const auto piece =
        std::make_shared<Bytes>(static_cast<std::size_t>(std::min(kCopied, image.size() - at)));
    image.read(at, *piece);
    thread.add(piece, piece->size());
  }
  return thread.finish_hex();
}

void DiskCopy::report(FailingCopyState& state) const {
  state.disk_bytes = status_.map.size();
  state.good_bytes = status_.map.bytes(ReadState::good);
  state.resumed = resumed_;
  for (const ReadMap::Run& run : status_.map.runs()) {
    if (run.state == ReadState::failed) add_to(state.unreadable, run.range);
    if (run.state == ReadState::suspect) add_to(state.suspect, run.range);
    if (run.state == ReadState::untried || run.state == ReadState::left)
      add_to(state.untried, run.range);
  }
}

FailingCopyState join_copies(const std::vector<std::string>& copies, const std::string& out,
                             bool hash, const Context& context) {
  const auto first =
      copies.empty() ? std::nullopt : read_reading_status(copies.front() + ".reading");
  if (!first)
    throw Error(ErrorCode::refused, copies.empty() ? out : copies.front(), std::nullopt,
                "has no status beside it that says what of it was read",
                "name a copy that --failing made");
  DiskCopy joined(out, first->name, first->map.size(), context);
  FailingCopyState state;
  try {
    for (const std::string& copy : copies) joined.take_over(copy);
    if (joined.map().bytes(ReadState::untried) + joined.map().bytes(ReadState::left) == 0) {
      HashThread thread(context.cancel);
      if (hash) state.sha256 = hash_rest(*joined.bytes(), 0, thread, context);
      joined.finish();
    }
  } catch (const Error& error) {
    if (error.code() != ErrorCode::stopped) throw;
    state.stopped = true;
    state.why_stopped = error.what();
  }
  joined.report(state);
  return state;
}

}  // namespace lantern
