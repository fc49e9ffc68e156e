// Files of boxes (mp4, mov, heic): ISO/IEC 14496-12.
//
// Thread-safety: as the reader.
#pragma once

#include <string>
#include <vector>

#include "contents/media/samples.h"

namespace lantern::kinds {

class BoxFile {
 public:
  explicit BoxFile(KindReader& file) : file_(file) {}

  Held check();  // throws Break
  // Once it was checked, as far as that went: bytes of content, and the tables of its tracks.
  const std::vector<Range>& data() const { return data_; }
  const std::vector<SampleTables>& tracks() const { return tracks_; }

 private:
  struct Box {
    std::string type;
    std::uint64_t data = 0, end = 0;
  };

  bool is_top(std::uint64_t at);
  bool is_content(std::uint64_t place) const;
  Box box_at(std::uint64_t at, std::uint64_t limit);
  void below(const Box& box, int depth);
  void chunks_of(const Box& box, bool wide);

  KindReader& file_;
  std::vector<Range> data_, chunks_;
  std::vector<SampleTables> tracks_;
  std::size_t boxes_ = 0;
};

}  // namespace lantern::kinds
