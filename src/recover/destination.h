// Destination: the folder files are written to. Nothing is written outside it, whatever the names
// say, and nothing that is there is replaced. Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "lantern/file_system.h"

namespace lantern {

class OpenFile {
 public:
  explicit OpenFile(int number = -1) : number_(number) {}
  OpenFile(OpenFile&& other) noexcept : number_(other.number_) { other.number_ = -1; }
  OpenFile& operator=(OpenFile&& other) noexcept;
  OpenFile(const OpenFile&) = delete;
  OpenFile& operator=(const OpenFile&) = delete;
  ~OpenFile();
  int get() const { return number_; }
  bool good() const { return number_ >= 0; }

 private:
  int number_;
};

struct FileTime {
  std::int64_t seconds = 0;  // since 1970, UTC
  std::uint32_t nanoseconds = 0;
};

// What a file wears beside its content.
struct FileMetadata {
  std::optional<Ownership> owner;
  std::vector<Attribute> attributes;
};

class Destination {
 public:
  // Makes the folder and those above it, and holds it alone. Throws Error{cannot_write, refused}.
  explicit Destination(std::string path);

  // A file under a passing name. Throws Error{cannot_write, stopped (no room)}.
  void begin();
  void write(std::uint64_t offset, std::span<const std::byte> bytes);
  // Sets length and time and gives it its name, below `folders`; `name` must be free, else false.
  bool finish(const std::vector<std::string>& folders, const std::string& name,
              std::uint64_t length, std::optional<FileTime> modified);
  void abandon();
  // A symbolic link with this target, which is not followed; false when the name is taken.
  bool make_link(const std::vector<std::string>& folders, const std::string& name,
                 const std::string& target);
  // Owner, mode and attributes for the file begun, or for a folder; false when some cannot be set.
  bool set_metadata(const FileMetadata& metadata);
  bool set_folder_metadata(const std::vector<std::string>& folders, const FileMetadata& metadata);

  // Makes the folders and gives their names: one whose name a file or a link has already is called
  // "NAME (folder)".
  std::vector<std::string> make_folders(const std::vector<std::string>& folders);
  // Whether there is such a folder, by the names it was made with.
  bool has_folder(const std::vector<std::string>& folders) const;
  void set_folder_time(const std::vector<std::string>& folders, FileTime modified);

  bool taken(const std::vector<std::string>& folders, const std::string& name);
  // Size of the regular file at this relative path.
  std::optional<std::uint64_t> file_size(const std::string& relative) const;
  bool is_link(const std::string& relative) const;
  std::uint64_t free_bytes() const;

 private:
  const OpenFile& folder(const std::vector<std::string>& folders);
  [[noreturn]] void fail(const std::string& what, int error) const;

  std::string path_;
  OpenFile root_;
  OpenFile unfinished_;
  std::string unfinished_name_;
  std::uint64_t written_to_ = 0;           // of the unfinished file: its length so far
  std::vector<std::string> last_asked_;    // the folder opened last, kept for the next file
  std::vector<std::string> last_folders_;  // what it is called
  OpenFile last_folder_;
};

}  // namespace lantern
