#include "source/write_log.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/crc32c.h"
#include "base/store.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::string_view kSignature = "LTWRITES";
constexpr std::uint32_t kLogVersion = 2;
constexpr std::size_t kHeaderBytes = 32;
constexpr std::size_t kRecordBytes = 16;
constexpr std::size_t kFileBytes = 76;
constexpr std::size_t kWriteBytes = 32;
constexpr std::size_t kMarkBytes = 16;
constexpr std::size_t kLayerBytes = 16;
constexpr std::size_t kSampleDigits = 64;
constexpr std::uint64_t kMaxText = 64u << 10;
constexpr std::uint64_t kMaxWrite = 256u << 20;
constexpr std::size_t kLogPiece = 1u << 20;
enum Kind : std::uint32_t { kFile = 1, kStep, kWrite, kMark, kLayer, kSource };

ByteView view_of(const std::string& text) {
  return std::as_bytes(std::span(text));
}

}  // namespace

WriteLog::WriteLog(int descriptor, std::string path)
    : descriptor_(descriptor), path_(std::move(path)) {}

WriteLog::~WriteLog() {
  ::close(descriptor_);
}

std::unique_ptr<WriteLog> WriteLog::in_memory(std::int64_t now_seconds) {
  const int descriptor = ::memfd_create("writes", MFD_CLOEXEC);
  if (descriptor < 0) throw Error(ErrorCode::cannot_write, {}, std::nullopt, std::strerror(errno));
  std::unique_ptr<WriteLog> log(new WriteLog(descriptor, {}));
  log->begin({0, now_seconds, 0});
  return log;
}

std::unique_ptr<WriteLog> WriteLog::create(const std::string& path, const Header& header) {
  const int descriptor =
      ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
  if (descriptor < 0)
    throw Error(errno == EEXIST ? ErrorCode::refused : ErrorCode::cannot_write, path, std::nullopt,
                errno == EEXIST ? "is there already" : std::strerror(errno),
                errno == EEXIST ? "name another file" : "choose a place that can be written");
  std::unique_ptr<WriteLog> log(new WriteLog(descriptor, path));
  try {
    log->begin(header);
  } catch (const Error&) {
    // An empty file would stand in the way of the next try.
    ::unlink(path.c_str());
    throw;
  }
  return log;
}

std::unique_ptr<WriteLog> WriteLog::open(const std::string& path) {
  const int descriptor = ::open(path.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW);
  if (descriptor < 0)
    throw Error(ErrorCode::cannot_open, path, std::nullopt, std::strerror(errno), "check the name");
  std::unique_ptr<WriteLog> log(new WriteLog(descriptor, path));
  log->load();
  return log;
}

void WriteLog::begin(const Header& header) {
  header_ = header;
  Bytes bytes(kHeaderBytes);
  store_text(bytes, 0, kSignature);
  store_le32(bytes, 8, kLogVersion);
  store_le32(bytes, 12, header.writes);
  store_le64(bytes, 16, static_cast<std::uint64_t>(header.made_at));
  store_le32(bytes, 24, header.number);
  store_le32(bytes, 28, crc32c(ByteView(bytes).first(28)));
  write_at_end(bytes);
}

void WriteLog::write_at_end(ByteView bytes) {
  std::size_t done = 0;
  while (done < bytes.size()) {
    const ssize_t put = ::pwrite(descriptor_, bytes.data() + done, bytes.size() - done,
                                 static_cast<off_t>(end_ + done));
    if (put < 0 && errno == EINTR) continue;
    if (put <= 0)
      throw Error(ErrorCode::cannot_write, path_, end_,
                  put < 0 ? std::strerror(errno) : "the file takes no more",
                  "nothing was changed by this; make room, or name another file");
    done += static_cast<std::size_t>(put);
  }
  end_ += bytes.size();
}

void WriteLog::append(std::uint32_t kind, ByteView head, ByteView a, ByteView b) {
  Bytes record(kRecordBytes + head.size());
  store_le32(record, 0, kind);
  store_le64(record, 8, head.size() + a.size() + b.size());
  store_bytes(record, kRecordBytes, head);
  std::uint32_t sum = crc32c_chain(~0u, record);
  sum = ~crc32c_chain(crc32c_chain(sum, a), b);
  store_le32(record, 4, sum);
  record.insert(record.end(), a.begin(), a.end());
  record.insert(record.end(), b.begin(), b.end());
  write_at_end(record);
}

std::uint32_t WriteLog::add_file(const File& file) {
  Bytes head(kFileBytes);
  store_le64(head, 0, file.size_bytes);
  store_text(head, 8, file.samples_sha256);
  store_le32(head, 72, file.path.size());
  append(kFile, head, view_of(file.path), view_of(file.lasting_name));
  files_.push_back(file);
  return static_cast<std::uint32_t>(files_.size() - 1);
}

void WriteLog::add_source(const std::string& address) {
  append(kSource, view_of(address), {}, {});
  source_ = address;
}

void WriteLog::add_layer(const Layer& layer) {
  Bytes head(kLayerBytes);
  store_le64(head, 0, layer.range.offset);
  store_le64(head, 8, layer.range.length);
  append(kLayer, head, view_of(layer.address), {});
  layers_.push_back(layer);
}

void WriteLog::add_step(const std::string& name) {
  append(kStep, view_of(name), {}, {});
  steps_.push_back(name);
}

const WriteLog::Write& WriteLog::add_write(std::uint32_t file, std::uint64_t offset,
                                           bool flush_before, ByteView after, ByteView before) {
  Bytes head(kWriteBytes);
  store_le32(head, 0, file);
  store_le32(head, 4, flush_before ? 1 : 0);
  store_le64(head, 8, offset);
  store_le64(head, 16, after.size());
  store_le64(head, 24, before.size());
  const std::uint64_t at = end_ + kRecordBytes + kWriteBytes;
  append(kWrite, head, after, before);
  Write& write = writes_.emplace_back();
  write.file = file;
  write.step = steps_.empty() ? 0 : steps_.size() - 1;
  write.flush_before = flush_before;
  write.offset = offset;
  write.length = after.size();
  write.before_length = before.size();
  write.at = at;
  return write;
}

void WriteLog::add_mark(Mark mark, std::int64_t now_seconds) {
  Bytes head(kMarkBytes);
  store_le32(head, 0, static_cast<std::uint32_t>(mark));
  store_le64(head, 8, static_cast<std::uint64_t>(now_seconds));
  // What it speaks of has to be there before it.
  const auto flush = [&] {
    if (!path_.empty() && ::fsync(descriptor_) != 0)
      throw Error(ErrorCode::cannot_write, path_, std::nullopt, std::strerror(errno),
                  "name a journal on another disk");
  };
  flush();
  append(kMark, head, {}, {});
  flush();
  last_mark_ = mark;
}

void WriteLog::read(std::uint64_t at, std::span<std::byte> out) const {
  std::size_t done = 0;
  while (done < out.size()) {
    const ssize_t got =
        ::pread(descriptor_, out.data() + done, out.size() - done, static_cast<off_t>(at + done));
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0)
      throw Error(ErrorCode::cannot_read, path_, at + done,
                  got < 0 ? std::strerror(errno) : "the file became shorter",
                  "bring back the file as it was");
    done += static_cast<std::size_t>(got);
  }
}

Bytes WriteLog::piece(std::uint64_t at, std::uint64_t length) const {
  Bytes bytes(static_cast<std::size_t>(length));
  read(at, bytes);
  return bytes;
}

void WriteLog::load() {
  struct stat facts {};
  if (::fstat(descriptor_, &facts) != 0 || !S_ISREG(facts.st_mode))
    throw Error(ErrorCode::cannot_open, path_, std::nullopt, "is not a file", "check the name");
  const auto limit = static_cast<std::uint64_t>(facts.st_size);
  read_bytes_ = limit;
  Bytes header(kHeaderBytes);
  if (limit >= kHeaderBytes) read(0, header);
  const bool marked = has_text(header, 0, kSignature);
  const bool whole = marked && le32(header, 28) == crc32c(ByteView(header).first(28));
  end_ = kHeaderBytes;
  if (whole && le32(header, 8) != kLogVersion)
    throw Error(ErrorCode::cannot_read, path_, 8, "was written by another version",
                "use that version");
  if (whole)
    header_ = {le32(header, 12), static_cast<std::int64_t>(le64(header, 16)), le32(header, 24)};
  else
    damage_.push_back({0, kHeaderBytes});
  for (std::uint64_t at = kHeaderBytes; at < limit;) {
    std::uint64_t next = 0;
    if (take_record(at, limit, next)) {
      at = end_ = next;
      continue;
    }
    next = next_record(at, limit);
    damage_.push_back({at, next - at});
    at = next;
  }
  if (!whole && files_.empty())
    throw Error(ErrorCode::cannot_read, path_, 0,
                marked ? "is the start of a journal, and nothing of its records is left"
                       : "is not a journal of writes",
                "check the name");
}

// Where the next whole record begins behind one that is damaged: where that says it ends, else at
// any byte. `limit`: there is none.
std::uint64_t WriteLog::next_record(std::uint64_t from, std::uint64_t limit) {
  constexpr std::uint64_t kMaxChecked = 1u << 30;
  Bytes piece(kLogPiece);
  for (std::uint64_t at = from + 1; at + kRecordBytes <= limit;) {
    piece.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kLogPiece, limit - at)));
    read(at, piece);
    for (std::size_t i = 0; i + kRecordBytes <= piece.size(); ++i) {
      const std::uint64_t length = le64(piece, i + 8);
      const std::uint32_t kind = le32(piece, i);
      if (kind < kFile || kind > kSource || length > limit - (at + i) - kRecordBytes) continue;
      if ((checked_ += length) > kMaxChecked) return limit;
      if (sum_fits(at + i, limit)) return at + i;
    }
    at += piece.size() < kLogPiece ? piece.size() : piece.size() - (kRecordBytes - 1);
  }
  return limit;
}

bool WriteLog::sum_fits(std::uint64_t at, std::uint64_t limit) const {
  return !record_at(at, limit).empty();
}

// The first bytes of a record's body, where its checksum fits; empty: it does not. A body of no
// bytes is given as one zero.
Bytes WriteLog::record_at(std::uint64_t at, std::uint64_t limit) const {
  if (limit - at < kRecordBytes) return {};
  Bytes head(kRecordBytes);
  read(at, head);
  const std::uint64_t length = le64(head, 8);
  const std::uint64_t body = at + kRecordBytes;
  if (length > limit - body || length > 2 * kMaxWrite + kWriteBytes) return {};
  const std::uint32_t said = le32(head, 4);
  store_le32(head, 4, 0);
  std::uint32_t sum = crc32c_chain(~0u, head);
  Bytes bytes(static_cast<std::size_t>(std::min<std::uint64_t>(length, kLogPiece)));
  Bytes first;
  for (std::uint64_t done = 0; done < length; done += bytes.size()) {
    bytes.resize(static_cast<std::size_t>(std::min<std::uint64_t>(length - done, kLogPiece)));
    read(body + done, bytes);
    if (done == 0) first = bytes;
    sum = crc32c_chain(sum, bytes);
  }
  if (~sum != said) return {};
  if (first.empty()) first.resize(1);
  return first;
}

bool WriteLog::take_record(std::uint64_t at, std::uint64_t limit, std::uint64_t& next) {
  const Bytes first = record_at(at, limit);
  if (first.empty()) return false;
  Bytes head(kRecordBytes);
  read(at, head);
  const std::uint64_t length = le64(head, 8);
  next = at + kRecordBytes + length;
  return take(le32(head, 0), ByteView(first).first(std::min<std::size_t>(first.size(), length)),
              at + kRecordBytes, length);
}

bool WriteLog::take(std::uint32_t kind, ByteView first, std::uint64_t body, std::uint64_t length) {
  switch (kind) {
    case kFile: {
      if (length < kFileBytes || length > kFileBytes + kMaxText) return false;
      const std::string names = text_of(first.subspan(kFileBytes));
      const std::size_t path = le32(first, 72);
      if (path > names.size()) return false;
      files_.push_back({names.substr(0, path), le64(first, 0),
                        text_of(slice(first, 8, kSampleDigits)), names.substr(path)});
      return true;
    }
    case kLayer:
      if (length < kLayerBytes || length > kLayerBytes + kMaxText) return false;
      layers_.push_back({text_of(first.subspan(kLayerBytes)),
                         {le64(first, 0), le64(first, 8)},
                         steps_.empty() ? 0 : steps_.size() - 1});
      return true;
    case kSource:
      if (length > kMaxText) return false;
      source_ = text_of(first);
      return true;
    case kStep:
      if (length > kMaxText) return false;
      steps_.push_back(text_of(first));
      return true;
    case kWrite: {
      if (length < kWriteBytes) return false;
      Write write;
      write.file = le32(first, 0);
      write.step = steps_.empty() ? 0 : steps_.size() - 1;
      write.flush_before = (le32(first, 4) & 1) != 0;
      write.offset = le64(first, 8);
      write.length = le64(first, 16);
      write.before_length = le64(first, 24);
      write.at = body + kWriteBytes;
      if (write.file >= files_.size() || write.length > kMaxWrite ||
          write.before_length > write.length || write.offset > ~std::uint64_t{0} - write.length ||
          length != kWriteBytes + write.length + write.before_length)
        return false;
      writes_.push_back(write);
      return true;
    }
    case kMark: {
      const std::uint32_t mark = length == kMarkBytes ? le32(first, 0) : 0;
      if (mark < 1 || mark > 3) return false;
      last_mark_ = static_cast<Mark>(mark);
      return true;
    }
    default:
      return false;
  }
}

}  // namespace lantern
