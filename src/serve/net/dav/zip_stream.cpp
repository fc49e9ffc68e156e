#include "serve/net/dav/zip_stream.h"

#include <zlib.h>

#include <algorithm>
#include <ctime>

#include "base/bytes.h"
#include "base/store.h"
#include "lantern/error.h"

namespace lantern::net {
namespace {

constexpr std::uint16_t kVersion = 45;  // the first that knows ZIP64
// Names in UTF-8; sizes behind the content.
constexpr std::uint16_t kFlags = 0x0808;
constexpr std::uint32_t kIn64 = 0xFFFFFFFF;

std::string text_of(const Bytes& bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

// Two-second steps from 1980 on; what lies outside takes the nearest.
std::uint32_t dos_time(std::int64_t seconds) {
  constexpr std::int64_t k1980 = 315532800, k2107 = 4354819198;
  const auto time = static_cast<std::time_t>(std::clamp(seconds, k1980, k2107));
  std::tm parts{};
  ::gmtime_r(&time, &parts);
  const auto u = [](int value) { return static_cast<std::uint32_t>(value); };
  return u(parts.tm_year - 80) << 25 | u(parts.tm_mon + 1) << 21 | u(parts.tm_mday) << 16 |
         u(parts.tm_hour) << 11 | u(parts.tm_min) << 5 | u(parts.tm_sec) / 2;
}

}  // namespace

ZipStream::ZipStream() : directory_(std::tmpfile()) {
  if (!directory_)
    throw Error(ErrorCode::cannot_write, {}, std::nullopt, "no temporary file can be made");
}

std::string ZipStream::begin(const std::string& name, std::optional<std::int64_t> modified) {
  name_ = name.substr(0, 0xFFFF);
  dos_time_ = dos_time(modified.value_or(0));
  header_at_ = written_;
  length_ = 0;
  sum_ = 0;
  Bytes head(30);
  store_le32(head, 0, 0x04034B50);
  store_le16(head, 4, kVersion);
  store_le16(head, 6, kFlags);
  store_le32(head, 10, dos_time_);
  store_le32(head, 18, kIn64);
  store_le32(head, 22, kIn64);
  store_le16(head, 26, static_cast<std::uint16_t>(name_.size()));
  store_le16(head, 28, 20);
  Bytes wide(20);
  store_le16(wide, 0, 1);
  store_le16(wide, 2, 16);
  const std::string bytes = text_of(head) + name_ + text_of(wide);
  count(bytes);
  return bytes;
}

void ZipStream::content(std::string_view bytes) {
  sum_ = static_cast<std::uint32_t>(
      ::crc32_z(sum_, reinterpret_cast<const unsigned char*>(bytes.data()), bytes.size()));
  length_ += bytes.size();
  written_ += bytes.size();
}

std::string ZipStream::end_of_file() {
  Bytes after(24);
  store_le32(after, 0, 0x08074B50);
  store_le32(after, 4, sum_);
  store_le64(after, 8, length_);
  store_le64(after, 16, length_);
  Bytes head(46);
  store_le32(head, 0, 0x02014B50);
  store_le16(head, 4, kVersion | 3 << 8);
  store_le16(head, 6, kVersion);
  store_le16(head, 8, kFlags);
  store_le32(head, 12, dos_time_);
  store_le32(head, 16, sum_);
  store_le32(head, 20, kIn64);
  store_le32(head, 24, kIn64);
  store_le16(head, 28, static_cast<std::uint16_t>(name_.size()));
  store_le16(head, 30, 28);
  store_le32(head, 38, name_.ends_with('/') ? 040755u << 16 | 0x10u : 0100644u << 16);
  store_le32(head, 42, kIn64);
  Bytes wide(28);
  store_le16(wide, 0, 1);
  store_le16(wide, 2, 24);
  store_le64(wide, 4, length_);
  store_le64(wide, 12, length_);
  store_le64(wide, 20, header_at_);
  const std::string record = text_of(head) + name_ + text_of(wide);
  if (std::fwrite(record.data(), 1, record.size(), directory_.get()) != record.size())
    throw Error(ErrorCode::cannot_write, {}, std::nullopt, "a temporary file takes no more");
  directory_bytes_ += record.size();
  ++entries_;
  const std::string bytes = text_of(after);
  count(bytes);
  return bytes;
}

std::string ZipStream::directory_piece() {
  if (!read_) {
    std::rewind(directory_.get());
    directory_at_ = written_;
    read_ = true;
  }
  std::string piece(64u << 10, '\0');
  piece.resize(std::fread(piece.data(), 1, piece.size(), directory_.get()));
  if (!piece.empty() || ended_) return piece;
  ended_ = true;
  Bytes end(56 + 20 + 22);
  store_le32(end, 0, 0x06064B50);
  store_le64(end, 4, 44);
  store_le16(end, 12, kVersion | 3 << 8);
  store_le16(end, 14, kVersion);
  store_le64(end, 24, entries_);
  store_le64(end, 32, entries_);
  store_le64(end, 40, directory_bytes_);
  store_le64(end, 48, directory_at_);
  store_le32(end, 56, 0x07064B50);
  store_le64(end, 64, directory_at_ + directory_bytes_);
  store_le32(end, 72, 1);
  store_le32(end, 76, 0x06054B50);
  store_le16(end, 84, 0xFFFF);
  store_le16(end, 86, 0xFFFF);
  store_le32(end, 88, kIn64);
  store_le32(end, 92, kIn64);
  return text_of(end);
}

}  // namespace lantern::net
