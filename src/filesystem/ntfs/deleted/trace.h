// Traces: what is told of files elsewhere than in their records (in the change journal, in the log,
// in the slack of folders' indexes), by reference.
//
// Thread-safety: one thread adds; afterwards any thread may ask.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <unordered_map>

#include "filesystem/ntfs/record.h"

namespace lantern::ntfs {

// Times as stored; 0: not told.
struct Trace {
  enum class From : std::uint8_t { slack, log, journal };  // the better one last

  std::string name;
  Reference folder;
  std::uint64_t size_bytes = 0;
  std::uint64_t created = 0;
  std::uint64_t modified = 0;
  std::uint64_t deleted = 0;
  std::uint64_t order = 0;  // which of two from one place is later
  From from = From::slack;
  bool is_folder = false;
};

// "the change journal"
std::string_view evidence_source(Trace::From from);

using TraceSink = std::function<void(Reference, Trace)>;

// Of a name as it stands in a record or an index; `key`: its bytes. False: it can be none.
bool trace_of_name(ByteView key, Trace& trace);

class Traces {
 public:
  // The later name of the better place is kept, and every time that is told of. False: there is no
  // room for it.
  bool add(Reference file, Trace trace);
  const Trace* find(Reference file) const;
  const std::unordered_map<std::uint64_t, Trace>& all() const { return traces_; }

  static std::uint64_t key_of(Reference file) {
    return file.record | std::uint64_t{file.sequence} << 48;
  }
  static Reference reference_of(std::uint64_t key) {
    return {key & 0xFFFFFFFFFFFF, static_cast<std::uint16_t>(key >> 48)};
  }

 private:
  static constexpr std::size_t kMax = 500'000;

  std::unordered_map<std::uint64_t, Trace> traces_;
};

}  // namespace lantern::ntfs
