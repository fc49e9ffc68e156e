// A disk with writes laid over it: opened anew after each, so that every layer is read as the
// writes leave it.
//
// Thread-safety: one thread.
#pragma once

#include "lantern/repair.h"
#include "lantern/scratch.h"

namespace lantern::repair {

class Trial {
 public:
  // Throws Error{refused} for a catalog: writes go to the disk itself.
  Trial(Address source, const Session& session, std::shared_ptr<Scratch> scratch);

  // The disk or volume, as it is now.
  Target open() const;
  // The file FIRST is, or the one a disk inside it lies in: whether it can be opened as a disk or
  // not.
  SourcePtr file() const;
  // The layer a planned write names.
  SourcePtr layer(const std::string& address) const;
  // Fills in what stands there now.
  void fill_before(RepairStep& step) const;
  // Lays a step over the disk. Throws Error{usage} when other bytes stand there than it expects,
  // and where the layers below do not take it.
  void write(const RepairStep& step) const;

  const std::shared_ptr<Scratch>& scratch() const { return scratch_; }
  const Address& source() const { return source_; }
  // For a look that finds the same again; nothing is kept between two of them.
  Session fresh() const;

 private:
  Address source_;
  Session session_;
  std::shared_ptr<Scratch> scratch_;
};

}  // namespace lantern::repair
