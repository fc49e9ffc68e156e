// A copy of a failing disk in the making: the image, what of it was read, and both kept so that the
// work can be taken up again at any moment.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <chrono>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/physical/failing_disk.h"
#include "recover/hash_thread.h"
#include "recover/image/output_file.h"
#include "source/reading/status.h"

namespace lantern {

// The sum of what was added already and of the image from byte `from` on. Throws Error{stopped}.
std::string hash_rest(const ByteSource& image, std::uint64_t from, HashThread& thread,
                      const Context& context);

class DiskCopy {
 public:
  // Takes up an earlier run's. Throws Error{refused}: the name is taken, or what is there is of
  // another size.
  DiskCopy(std::string path, std::string name, std::uint64_t size_bytes, const Context& context);

  ReadMap& map() { return status_.map; }
  const std::string& path() const { return path_; }
  const std::string& name() const { return status_.name; }
  bool resumed() const { return resumed_; }

  // The image as it is now.
  SourcePtr bytes() const;
  void write(std::uint64_t offset, ByteView bytes);
  // What the status says was read is in the image, whatever happens next; `at_once`: also when that
  // was seen to a moment ago.
  void note(bool at_once = true);
  // What another copy of the disk has and this one lacks. Throws Error{refused}: it is of another
  // disk, or it is no such copy.
  void take_over(const std::string& copy);
  // Gives the image its name.
  void finish();
  void report(FailingCopyState& state) const;

 private:
  void take_up();
  void refuse_another_disk(const ByteSource& other, const ReadMap& map, const std::string& path);
  void take_run(const ByteSource& other, const ByteSource& ours, const ReadMap::Run& run);

  std::string path_, part_, status_path_;
  Context context_;
  ReadingStatus status_;
  std::optional<OutputFile> out_;
  std::chrono::steady_clock::time_point next_note_{};
  bool resumed_ = false;
};

}  // namespace lantern
