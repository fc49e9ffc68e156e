// A failing disk read through its copy: what the copy has comes from there, all else is read from
// the disk once and kept. So what looks at the disk costs it no read twice.
//
// Thread-safety: one thread reads at a time; it waits for its turn.
#pragma once

#include <functional>
#include <mutex>

#include "lantern/byte_source.h"
#include "physical/reading/disk_copy.h"
#include "physical/reading/order.h"

namespace lantern {

class ThroughCopy final : public ByteSource {
 public:
  // `read` keeps what it reads in the copy. `copy` and `read` outlive it.
  ThroughCopy(DiskCopy& copy, const ReadOrder& order, std::function<Tried(Range)> read);

  std::uint64_t size() const override { return copy_.map().size(); }
  std::optional<std::uint32_t> logical_sector_size() const override;

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override;

 private:
  void fetch(Range wanted) const;
  void fetch_ahead(Range wanted) const;
  void fetch_run(Range range) const;

  DiskCopy& copy_;
  ReadOrder order_;
  std::function<Tried(Range)> read_;
  SourcePtr image_;
  mutable std::mutex mutex_;
};

}  // namespace lantern
