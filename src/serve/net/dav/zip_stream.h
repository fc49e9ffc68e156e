// A zip (APPNOTE 6.3, ZIP64) that is written as it goes: contents are stored, sizes and sums follow
// them, and the directory at its end is kept in a temporary file.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <cstdio>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

namespace lantern::net {

class ZipStream {
 public:
  ZipStream();

  // The bytes that come next in the file. A folder's name ends in '/'. `modified`: seconds since
  // 1970-01-01, UTC.
  std::string begin(const std::string& name, std::optional<std::int64_t> modified);
  // A piece of the content goes into the file as it is.
  void content(std::string_view bytes);
  std::string end_of_file();
  // The directory, in pieces; the last is empty.
  std::string directory_piece();

 private:
  void count(const std::string& bytes) { written_ += bytes.size(); }

  struct Close {
    void operator()(std::FILE* file) const { std::fclose(file); }
  };
  std::unique_ptr<std::FILE, Close> directory_;
  std::uint64_t written_ = 0, entries_ = 0;
  std::string name_;
  std::uint32_t dos_time_ = 0;
  std::uint64_t header_at_ = 0, length_ = 0;
  std::uint32_t sum_ = 0;
  bool read_ = false, ended_ = false;
  std::uint64_t directory_at_ = 0, directory_bytes_ = 0;
};

}  // namespace lantern::net
