// Repair: what would put a disk right, as a plan that writes nothing; the plan made, with a journal
// it can be taken back by; and taken back.
//
//   using namespace lantern::repair;
//   const RepairPlan plan = plan_repair(address, {}, session);
//   ApplyOptions apply;
//   apply.journal = "disk.undo";
//   apply_repair(plan, steps_of(plan, certain_fixes(plan)), session, apply);
//   undo_repair("disk.undo", apply, context);
//
// Thread-safety: the functions may be called from any thread, one at a time for one disk; what they
// return are values.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "lantern/error.h"
#include "lantern/json.h"
#include "lantern/nest/session.h"
#include "lantern/sources.h"

namespace lantern::repair {

enum class Certainty {
  certain,  // nothing else can be right, or what is changed is of no other use
  likely,   // the evidence is for it
  possible  // one way of several
};

std::string_view to_string(Certainty certainty);

// Bytes of a layer that change. `address`: the disk, or a raw container file ("...::bytes").
struct PlannedWrite {
  std::string address;
  std::uint64_t offset_bytes = 0;
  std::vector<std::byte> before, after;  // as long as each other, but where a file becomes longer
};

struct RepairStep {
  std::size_t number = 0;  // from 1
  std::string code;        // stable: "mbr.signature"
  Certainty certainty{};
  std::string what;      // what it does, in words
  std::string evidence;  // why
  std::vector<PlannedWrite> writes;
  std::string part;  // of the structure it puts right; steps of one part belong together
};

// The unit of a plan: steps that belong together.
struct RepairFix {
  std::size_t number = 0;          // from 1
  Certainty certainty{};           // the least of its steps, and of the fixes it needs
  std::string gain;                // measured in a trial, in words
  std::vector<std::size_t> needs;  // numbers of fixes that have to be applied with it
  // Numbers of fixes that explain the same damage in another way: only one of them can be applied.
  std::vector<std::size_t> alternatives;
  std::vector<std::size_t> steps;  // numbers of its steps, in order
};

// What is accessible.
struct Reach {
  std::uint64_t volumes = 0;  // with a file system that can be read
  std::uint64_t files = 0;    // all entries that are no folder
  std::uint64_t folders = 0;
};

// A file or device that a plan was made for.
struct PlanSource {
  std::string path;
  Identity identity;
};

struct RepairPlan {
  std::string source;               // address
  std::vector<PlanSource> sources;  // all it is read from: the first file, extents, parents
  std::vector<RepairFix> fixes;
  std::vector<RepairStep> steps;
  Reach before;
  // With the fixes of first_choice() applied, and with those of all_together().
  Reach after, after_all;
  std::vector<Advice> notes;  // what is wrong and not offered, and why
};

struct PlanOptions {
  bool every_sector =
      false;  // volumes are looked for in all of the disk, not where they usually are
};

// Every fix that gains something in a trial in memory (more files accessible, a start chain
// completed, a spare copy restored) and makes nothing less accessible. Nothing is proposed where
// something is recognised that the fix does not belong to. Reads only. Throws Error{usage,
// not_found, cannot_open, cannot_read}.
RepairPlan plan_repair(const Address& source, const PlanOptions& how, const Session& session);

// A manual plan of one step: a field of a structure ("mbr.entry1.active" to "yes"), its checksums
// recalculated.
RepairPlan plan_field(const Address& source, const std::string& field, const std::string& value,
                      const Session& session);
// A plan that takes structures ("mbr", "boot:1") or fields of them ("mbr.boot_code") over from a
// healthy disk of the same kind, checksums recalculated; a step each. Of a whole structure what is
// right on one disk alone stays: ids, names, starts, lengths, and all that says where files are.
RepairPlan plan_copy(const Address& source, const Address& healthy,
                     const std::vector<std::string>& what, const Session& session);
// A plan of one step: these bytes, at a byte of what `source` names.
RepairPlan plan_bytes(const Address& source, std::uint64_t offset,
                      const std::vector<std::byte>& bytes, const Session& session);

// The members of a plan, into an object that is open (docs/json/README.md).
void write_json(JsonWriter& json, const RepairPlan& plan);
// A plan kept as JSON, read again. Throws Error{cannot_read}.
RepairPlan read_plan(const std::string& json);

// Numbers of the fixes that are certain.
std::vector<std::size_t> certain_fixes(const RepairPlan& plan);
// The fixes to name first: the certain ones, else the first likely one. RepairPlan::after is what
// they reach.
std::vector<std::size_t> first_choice(const RepairPlan& plan);
// As many fixes as can be applied together: of alternatives the first.
std::vector<std::size_t> all_together(const RepairPlan& plan);
// Steps of these fixes, in order. Throws Error{usage} when there is no such fix, when one needs
// another that is not named, and when two are alternatives.
std::vector<std::size_t> steps_of(const RepairPlan& plan, const std::vector<std::size_t>& fixes);

// A file or device that is written to.
class Medium {
 public:
  virtual ~Medium() = default;
  virtual std::uint64_t size() const = 0;
  virtual void read(std::uint64_t offset, std::span<std::byte> out) const = 0;
  // Throw Error{cannot_write}.
  virtual void write(std::uint64_t offset, std::span<const std::byte> bytes) = 0;
  virtual void flush() = 0;
  virtual void resize(std::uint64_t size) = 0;
};

// Alone: throws Error{refused} when another has it open or locked.
std::unique_ptr<Medium> open_medium(const std::string& path);
using OpenMedium = std::function<std::unique_ptr<Medium>(const std::string& path)>;

struct ApplyOptions {
  std::string journal;                    // a new file
  std::shared_ptr<const Host> host;       // asked who uses the disk; empty: nobody is
  bool override_suspended = false;        // a suspended machine's disk
  bool override_lock_file = false;        // a lock file that is left beside it
  bool override_damaged_journal = false;  // take what is left of one
  bool drop_trial = false;                // delete trial images of it that nothing has changed
  OpenMedium open = open_medium;
};

struct ApplyResult {
  std::vector<std::size_t> applied;  // step numbers
  std::string journal;
  std::uint64_t bytes_written = 0;
  std::vector<std::string> trials_outdated;  // trial images that no longer fit
  std::vector<std::string> trials_dropped;   // those that were deleted
};

// Lays the steps into `scratch`, in order, and looks whether they read back. Throws Error{refused}
// when the disk is not the one the plan was made for, Error{usage} for a step that rests on another
// one, Error{unsupported} where the disk takes no writes.
void try_repair(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                const Session& session, const std::shared_ptr<Scratch>& scratch);

// Makes the steps: tried in memory first, then noted in the journal, then written. Throws as
// try_repair, and Error{refused} when the disk is in use, Error{cannot_write} when a write fails:
// the journal then finishes it or takes it back.
ApplyResult apply_repair(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                         const Session& session, const ApplyOptions& how);

// Makes the steps in a new image at `child` with the original as its parent, which stays as it is.
// Throws as apply_repair, and Error{unsupported} for steps that mend the original's own file.
ApplyResult repair_into(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                        const std::string& child, const Session& session);

enum class JournalState {
  nothing_done,  // it was cut before anything was written
  in_between,    // writing stopped half way
  applied,
  undone
};

struct JournalReport {
  JournalState was{};
  JournalState is{};
  std::vector<std::string> files;
  std::vector<std::string> steps;
  std::uint64_t bytes_written = 0;
  bool damaged = false;  // the journal itself
};

// Takes back what a journal says was written. Can be stopped and run again. `was` is what the files
// hold, whatever the journal's marks say. Throws Error{refused} when they hold other bytes than it
// wrote, when one of the guards of apply_repair refuses, when a younger repair of the
// same bytes stands, and when the journal is damaged and has lost writes.
JournalReport undo_repair(const std::string& journal, const ApplyOptions& how,
                          const Context& context);
// Finishes what a journal says was begun, or makes it again after it was undone.
JournalReport finish_repair(const std::string& journal, const ApplyOptions& how,
                            const Context& context);

}  // namespace lantern::repair
