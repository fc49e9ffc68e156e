// Writes in order, each with what stood there before: what a scratch keeps and what an undo journal
// is. Little-endian.
//   0   8  "LTWRITES"   8 4 version, 2   12 4 writes that follow (0: it grows)
//   16  8  made at, seconds since 1970   24 4 its number among the journals of one disk
//   28  4  CRC-32C of the 28 bytes before
//   records behind it: 0 4 kind  4 4 CRC-32C of the record, this field zero  8 8 bytes that follow
//   1 file   0 8 its size then, 8 64 SHA-256 of samples of it (identity), 72 4 bytes of its path,
//            76 its path, then its lasting name (of a device; else nothing)
//   2 step   0 its name
//   3 write  0 4 number of the file, from 0  4 4 bit 0: flush before  8 8 offset  16 8 bytes
//            24 8 bytes before (fewer: the file ended there)  32 the bytes, then those before
//   4 mark   0 4 which (Mark)  8 8 when
//   5 layer  0 8 offset, 8 8 bytes, 16 address: what a write is for, as the plan had it
//   6 source 0 the address the plan was for
//   | a record that is cut, or whose checksum is wrong, is left out, and damage is told
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
    std::string lasting_name;  // of a device: "disk:NAME" (lantern/nest/disks.h), or its name under
                               // /dev/disk/by-id (host/lasting_name.h); else empty
  };

  // A write as the plan had it, for the guards of undo.
  struct Layer {
    std::string address;
    Range range;  // bytes of that layer
    std::size_t step = 0;
  };

  struct Header {
    std::uint32_t writes = 0;  // that follow; 0: not known
    std::int64_t made_at = 0;  // seconds since 1970
    std::uint32_t number = 0;  // among the journals of one disk, from 1
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
  static std::unique_ptr<WriteLog> create(const std::string& path, const Header& header);
  // Throws Error{cannot_open, cannot_read}. Records that are damaged are left out; writing goes on
  // behind the last that is whole.
  static std::unique_ptr<WriteLog> open(const std::string& path);
  ~WriteLog();
  WriteLog(const WriteLog&) = delete;
  WriteLog& operator=(const WriteLog&) = delete;

  const std::string& path() const { return path_; }
  const Header& header() const { return header_; }
  const std::vector<File>& files() const { return files_; }
  // Where a file of it lies now; what is kept in the log stays.
  void move_file(std::size_t file, std::string path) { files_.at(file).path = std::move(path); }
  const std::vector<std::string>& steps() const { return steps_; }
  const std::vector<Write>& writes() const { return writes_; }
  std::optional<Mark> last_mark() const { return last_mark_; }
  const std::vector<Layer>& layers() const { return layers_; }
  const std::string& source() const { return source_; }
  // Of what is whole in it.
  std::uint64_t bytes() const { return end_; }
  // Of the file when it was opened.
  std::uint64_t read_bytes() const { return read_bytes_; }
  // Bytes of it that are no whole record; empty: it is whole.
  const std::vector<Range>& damage() const { return damage_; }
  // Writes that the header counts and no record is left of.
  std::size_t lost_writes() const {
    return header_.writes > writes_.size() ? header_.writes - writes_.size() : 0;
  }

  Bytes after(const Write& write) const { return piece(write.at, write.length); }
  Bytes before(const Write& write) const {
    return piece(write.at + write.length, write.before_length);
  }
  // Throws Error{cannot_read} when the log has lost them.
  void read(std::uint64_t at, std::span<std::byte> out) const;

  std::uint32_t add_file(const File& file);
  void add_step(const std::string& name);
  void add_source(const std::string& address);
  void add_layer(const Layer& layer);
  const Write& add_write(std::uint32_t file, std::uint64_t offset, bool flush_before,
                         ByteView after, ByteView before);
  // Written through to the medium before it returns.
  void add_mark(Mark mark, std::int64_t now_seconds);

 private:
  WriteLog(int descriptor, std::string path);
  Bytes piece(std::uint64_t at, std::uint64_t length) const;
  void append(std::uint32_t kind, ByteView head, ByteView a, ByteView b);
  void write_at_end(ByteView bytes);
  void begin(const Header& header);
  void load();
  bool take_record(std::uint64_t at, std::uint64_t limit, std::uint64_t& next);
  std::uint64_t next_record(std::uint64_t from, std::uint64_t limit);
  Bytes record_at(std::uint64_t at, std::uint64_t limit) const;
  bool sum_fits(std::uint64_t at, std::uint64_t limit) const;
  bool take(std::uint32_t kind, ByteView first, std::uint64_t body, std::uint64_t length);

  int descriptor_;
  std::string path_;
  Header header_;
  std::uint64_t end_ = 0, read_bytes_ = 0;
  std::vector<File> files_;
  std::vector<std::string> steps_;
  std::vector<Write> writes_;
  std::optional<Mark> last_mark_;
  std::vector<Layer> layers_;
  std::string source_;
  std::vector<Range> damage_;
  std::uint64_t checked_ = 0;  // bytes summed while looking for the next whole record
};

}  // namespace lantern
