// Reads of a disk that may not answer: after a time nobody waits for them any more.
//
// Thread-safety: belongs to one thread; reads run on one of their own.
#pragma once

#include <chrono>
#include <memory>
#include <optional>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

class TimedReads {
 public:
  TimedReads(SourcePtr disk, std::chrono::milliseconds give_up, const Context& context);
  ~TimedReads();
  TimedReads(const TimedReads&) = delete;
  TimedReads& operator=(const TimedReads&) = delete;

  struct Answer {
    ByteView good;          // from the start of the range, as far as they came; until the next read
    bool given_up = false;  // none came in time
    std::chrono::steady_clock::duration took{};
  };
  // Asks nothing again and nothing behind the first failure. Throws what the disk throws, and
  // Error{stopped} at cancel, also while it waits, and when too many reads were never answered.
  Answer read(Range range);
  // Begins a read that is sure to be asked for next, while the caller is at work with the last.
  void begin(Range range);

 private:
  struct Worker;
  bool wait();
  void abandon();

  SourcePtr disk_;
  std::chrono::milliseconds give_up_;
  Context context_;
  std::shared_ptr<Worker> worker_;
  std::optional<Range> begun_;
  Bytes answered_;
  std::vector<std::weak_ptr<Worker>> abandoned_;  // they live as long as their read
};

}  // namespace lantern
