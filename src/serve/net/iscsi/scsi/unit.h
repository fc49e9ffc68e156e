// A logical unit: a disk or volume that answers SCSI commands.
//
// Thread-safety: every member may be called from any thread; a Task belongs to one.
#pragma once

#include <atomic>
#include <deque>
#include <map>
#include <mutex>

#include "serve/live_disk.h"
#include "serve/net/iscsi/scsi/pages.h"
#include "serve/net/iscsi/scsi/reservations.h"

namespace lantern::scsi {

// A command under way.
struct Task {
  Status status = Status::good;
  Fault fault;              // with Status::check
  Bytes answer;             // data for the initiator, or
  Range reads;              // bytes of the disk for it
  std::uint64_t wants = 0;  // bytes that the initiator has to send
  // Of one that wants some:
  Nexus nexus;
  const Command* command = nullptr;
  Bytes cdb, taken;
  std::uint64_t sent = 0;  // bytes
  Range place;             // of the disk, in bytes
  std::uint32_t life = 0;

  bool failed() const { return status != Status::good; }
  void fail(const Fault& why) {
    status = Status::check;
    fault = why;
  }
};

// What a unit that there is not answers.
Task of_no_unit(ByteView cdb, const std::vector<std::uint64_t>& units);

class Unit {
 public:
  Unit(LiveDisk& live, const LiveDisk::Raw& raw, std::string target);

  const Facts& facts() const { return facts_; }
  const LiveDisk::Raw& raw() const { return raw_; }

  // `units`: all that there are, as REPORT LUNS names them. `cdb`: 16 bytes.
  Task begin(const Nexus& nexus, ByteView cdb, const std::vector<std::uint64_t>& units);
  // Bytes of the disk for a task that reads. How many of them are right, from the first on; fewer
  // than asked for: the task has failed.
  std::size_t read(Task& task, std::uint64_t offset, std::span<std::byte> out) const;
  // Bytes that were sent for a task, in order. Where they are written, that is done.
  void take(Task& task, ByteView bytes);
  // All were sent. `whole`: as many as the task wants.
  void finish(Task& task, bool whole);
  // Whether the task was ended from outside: then nobody is answered.
  bool is_over(const Task& task) const { return task.life != life_; }

  void began(const Nexus& nexus);
  void ended(const Nexus& nexus);
  // Tasks under way are over, and every nexus is told.
  void reset();

 private:
  void run(Task& task, ByteView cdb);
  void plan_blocks(Task& task, ByteView cdb);
  void plan_same(Task& task, ByteView cdb, Blocks blocks);
  void check_readable(Task& task, Range range);
  void write(Task& task, std::uint64_t offset, ByteView bytes);
  void write_same(Task& task);
  // With the disk's at `offset` of the task's place.
  void compare(Task& task, std::uint64_t offset, ByteView bytes);
  void compare_and_write(Task& task);
  void flush(Task& task);
  std::optional<Fault> pending(const Nexus& nexus, bool take);

  LiveDisk& live_;
  const LiveDisk::Raw& raw_;
  Facts facts_;
  std::atomic<std::uint32_t> life_{0};
  std::mutex swap_;   // a comparison and what is written after it are one
  std::mutex mutex_;  // of what follows
  std::map<Nexus, std::deque<Fault>> pending_;
  Reservations reservations_;
};

}  // namespace lantern::scsi
