// Extraction: files out of a volume into a folder, with a manifest that proves each of them.
//
//   Extraction job(target, "RESCUED", wanted, *this_host(), context);
//   ExtractSummary done = job.run();
//
// Active files lie under DEST by their path, deleted ones under DEST/deleted, whole or not: the
// manifest says which are. Nothing that is there is ever replaced. While running, the manifest is
// JSON lines in MANIFEST.part; the next run of the same job goes on from it.
//
// Thread-safety: one Extraction belongs to one thread; `cancel` of its context may be set by any.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/host.h"
#include "lantern/nest/session.h"
#include "lantern/timestamp.h"

namespace lantern {

struct ExtractOptions {
  bool active = true;
  bool deleted = false;
  std::vector<std::string>
      patterns;  // shell patterns: of the name, or of the path if they hold a '/'
  std::vector<std::string> without;          // such names (or paths) are left out
  std::vector<std::string> ids;              // entry ids; none: all
  std::map<std::string, std::string> names;  // entry id to the name it is written under
  bool hash = true;
  bool verify = true;       // the contents, by their own checksums and structure (content_check.h)
  bool attributes = false;  // extended attributes, access lists among them
  bool owners = false;      // owner, group and mode
  bool set_id = false;      // with owners: set-user-id and set-group-id bits, too
  bool streams = false;     // each further stream as a file of its own, "NAME (stream STREAM)"
  bool separate_partial = false;  // what is not whole goes under DEST/partial
  bool together = false;          // deleted files beside active ones, not under DEST/deleted
  std::string manifest;           // empty: DEST.manifest.json
  LocalToUtc local_to_utc;        // empty: local times count as UTC
};

struct ExtractEstimate {
  std::uint64_t files = 0;
  std::uint64_t folders = 0;
  std::uint64_t bytes = 0;
  std::uint64_t incomplete = 0;  // files with intact below 1
  std::uint64_t clashes = 0;     // names that are already taken in the destination
  std::uint64_t free_bytes = 0;  // of the destination
};

struct ExtractSummary {
  std::uint64_t files = 0;  // written by this run
  std::uint64_t bytes = 0;
  std::uint64_t deleted = 0;          // of them, deleted ones
  std::uint64_t verified = 0;         // of them, by checksums in their contents
  std::uint64_t partial = 0;          // not whole, those of an earlier run too
  std::uint64_t unrecoverable = 0;    // entries of which nothing could be written, in any run
  std::uint64_t already_there = 0;    // written by an earlier run
  std::uint64_t failed = 0;           // the destination did not take them, or they are encrypted
  std::uint64_t special = 0;          // devices, pipes and sockets: in the manifest alone
  std::uint64_t metadata_failed = 0;  // owner or attributes could not all be set
  bool stopped = false;
  std::string manifest;
  std::string manifest_sha256;  // of the finished document
};

// Whether an entry is asked for by name. `path`: of the entry.
bool matches_any(const std::vector<std::string>& patterns, const std::vector<std::string>& path);

class Extraction {
 public:
  // Throws Error{refused} when the destination is on the source.
  Extraction(Target target, std::string destination, ExtractOptions options, const Host& host,
             const Context& context);
  ~Extraction();

  // Writes nothing.
  ExtractEstimate estimate();

  // Where nothing is selected, nothing is written and a finding says so (the summary names no
  // manifest). Throws Error{refused, cannot_write}. A full destination or a set `cancel` stops the
  // run: whole files and a true manifest are left, and `stopped` is set.
  ExtractSummary run();

 private:
  class Job;
  std::unique_ptr<Job> job_;
};

}  // namespace lantern
