// Writes in order, each with what stood there before: what a scratch keeps and what an undo journal
// is. Little-endian.
//   0   8  "LTWRITES"   8 4 version, 1   12 4 zero   16 8 made at, seconds since 1970
//   24  4  zero         28 4 CRC-32C of the 28 bytes before
//   records behind it: 0 4 kind  4 4 CRC-32C of the record, this field zero  8 8 bytes that follow
//   1 file   0 8 its size then, 8 64 SHA-256 of samples of it (identity), 72 its path
//   2 step   0 its name
//   3 write  0 4 number of the file, from 0  4 4 bit 0: flush before  8 8 offset  16 8 bytes
//            24 8 bytes before (fewer: the file ended there)  32 the bytes, then those before
//   4 mark   0 4 which (Mark)  8 8 when
//   | a record that is cut, or whose sum is wrong, ends the log
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/sources.h"

namespace lantern {

class WriteLog {
 public:
  enum class Mark : std::uint32_t {
    complete = 1,  // every write is noted; none was made before this
    applied = 2,
    undone = 3
  };

  struct File {
    std::string path;
    std::uint64_t size_bytes = 0;
    std::string samples_sha256;
  };

  struct Write {
    std::uint32_t file = 0;
    std::size_t step = 0;  // in steps(); as many as there are: before the first
    bool flush_before = false;
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
    std::uint64_t before_length = 0;
    std::uint64_t at = 0;  // of its bytes in the log; those before follow them
  };

  static std::unique_ptr<WriteLog> in_memory(std::int64_t now_seconds);
  // Throws Error{refused} when there is such a file already, Error{cannot_write}.
  static std::unique_ptr<WriteLog> create(const std::string& path, std::int64_t now_seconds);
  // Throws Error{cannot_open, cannot_read}. Takes records up to the first that is not whole;
  // writing goes on there.
  static std::unique_ptr<WriteLog> open(const std::string& path);
  ~WriteLog();
  WriteLog(const WriteLog&) = delete;
  WriteLog& operator=(const WriteLog&) = delete;

  const std::string& path() const { return path_; }
  std::int64_t made_at() const { return made_at_; }
  const std::vector<File>& files() const { return files_; }
  const std::vector<std::string>& steps() const { return steps_; }
  const std::vector<Write>& writes() const { return writes_; }
  std::optional<Mark> last_mark() const { return last_mark_; }
  bool cut() const { return cut_; }  // a record at its end was not whole

  Bytes after(const Write& write) const { return piece(write.at, write.length); }
  Bytes before(const Write& write) const {
    return piece(write.at + write.length, write.before_length);
  }
  // Throws Error{cannot_read} when the log has lost them.
  void read(std::uint64_t at, std::span<std::byte> out) const;

  std::uint32_t add_file(const std::string& path, const Identity& identity);
  void add_step(const std::string& name);
  const Write& add_write(std::uint32_t file, std::uint64_t offset, bool flush_before,
                         ByteView after, ByteView before);
  // Written through to the medium before it returns.
  void add_mark(Mark mark, std::int64_t now_seconds);

 private:
  WriteLog(int descriptor, std::string path);
  Bytes piece(std::uint64_t at, std::uint64_t length) const;
  void append(std::uint32_t kind, ByteView head, ByteView a, ByteView b);
  void write_at_end(ByteView bytes);
  void begin(std::int64_t now_seconds);
  void load();
  bool take_record(std::uint64_t at, std::uint64_t limit, std::uint64_t& next);

  int descriptor_;
  std::string path_;
  std::int64_t made_at_ = 0;
  std::uint64_t end_ = 0;
  std::vector<File> files_;
  std::vector<std::string> steps_;
  std::vector<Write> writes_;
  std::optional<Mark> last_mark_;
  bool cut_ = false;
};

}  // namespace lantern
