#include "recover/file_copy.h"

#include <algorithm>

namespace lantern {
namespace {

constexpr std::uint64_t kPiece = 256u << 10;
// From this size on a thread of its own is worth its start.
constexpr std::uint64_t kLargeFile = 1u << 20;
// Zeros cost as much to hash as any bytes: a file with more of them in holes is not hashed.
constexpr std::uint64_t kMaxHashedHoles = 64ull << 30;

std::uint64_t holes_of(const ByteSource& bytes, std::uint64_t size_bytes) {
  std::uint64_t sum = 0;
  bytes.extents({0, size_bytes}, [&](const Extent& extent) {
    if (extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated ||
        extent.kind == ExtentKind::unreadable)
      sum += extent.range.length;
    return true;
  });
  return sum;
}

}  // namespace

void add_range(std::vector<Range>& ranges, const Range& range) {
  if (!ranges.empty() && range.offset <= ranges.back().end())
    ranges.back().length = std::max(ranges.back().end(), range.end()) - ranges.back().offset;
  else
    ranges.push_back(range);
}

std::shared_ptr<Bytes> FileCopy::buffer() {
  for (const auto& free : buffers_)
    if (free.use_count() == 1) return free;
  buffers_.push_back(std::make_shared<Bytes>(kPiece));
  return buffers_.back();
}

void FileCopy::hash_zeros(std::uint64_t count) {
  if (thread_) return thread_->add_zeros(count);
  const Bytes zeros(static_cast<std::size_t>(hash_ ? std::min(count, kPiece) : 0));
  for (; hash_ && count > 0; count -= std::min(count, kPiece)) {
    context_.check_cancelled();
    hash_->add(std::span(zeros).first(static_cast<std::size_t>(std::min(count, kPiece))));
  }
}

void FileCopy::piece(const Content& content, Range range, Destination& destination,
                     Copied& copied) {
  const std::shared_ptr<Bytes> held = buffer();
  const auto bytes = std::span(*held).first(static_cast<std::size_t>(range.length));
  const ReadResult got = content.bytes->read(range.offset, bytes);
  for (const Range& lost : got.unreadable) add_range(copied.lost, lost);
  if (got.length < bytes.size()) {
    std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(got.length), bytes.end(), std::byte{0});
    add_range(copied.lost, {range.offset + got.length, bytes.size() - got.length});
  }
  if (!all_zero(bytes)) destination.write(range.offset, bytes);
  if (thread_)
    thread_->add(held, bytes.size());
  else if (hash_)
    hash_->add(bytes);
}

Copied FileCopy::copy(const Content& content, std::uint64_t size_bytes, Destination& destination,
                      const std::function<void(std::uint64_t)>& done) {
  Copied copied;
  thread_.reset();
  hash_.reset();
  const bool hashed = with_hash_ && (size_bytes <= kMaxHashedHoles ||
                                     holes_of(*content.bytes, size_bytes) <= kMaxHashedHoles);
  if (hashed && size_bytes >= kLargeFile)
    thread_ = std::make_unique<HashThread>(context_.cancel);
  else if (hashed)
    hash_ = std::make_unique<Sha256>();
  std::uint64_t reached = 0;
  content.bytes->extents({0, size_bytes}, [&](const Extent& extent) {
    reached = extent.range.end();
    const bool hole = extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated;
    if (hole || extent.kind == ExtentKind::unreadable) {
      context_.check_cancelled();
      if (!hole) add_range(copied.lost, extent.range);
      hash_zeros(extent.range.length);
      done(extent.range.length);
      return true;
    }
    for (std::uint64_t at = extent.range.offset; at < extent.range.end();) {
      context_.check_cancelled();
      const Range part{at, std::min(kPiece, extent.range.end() - at)};
      // What a layer below knows to be zero is not read either.
      if (part.length == kPiece && known_zero(*content.bytes, part))
        hash_zeros(part.length);
      else
        piece(content, part, destination, copied);
      done(part.length);
      at += part.length;
    }
    return true;
  });
  if (reached < size_bytes) {
    add_range(copied.lost, {reached, size_bytes - reached});
    hash_zeros(size_bytes - reached);
  }
  if (thread_) copied.sha256 = thread_->finish_hex();
  if (hash_) copied.sha256 = hash_->finish_hex();
  thread_.reset();
  return copied;
}

}  // namespace lantern
