// What a report of an extraction tells, gathered from its manifest in one pass.
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "lantern/context.h"

namespace lantern::report {

struct KindTotal {
  std::uint64_t files = 0, bytes = 0, intact = 0, verified = 0, damaged = 0;
};

struct ReportedFile {
  std::string path, written, state, kind, intact, sha256, modified, evidence;
  std::uint64_t size_bytes = 0, lost_bytes = 0;
  bool verified = false, damaged = false;
};

struct ReportedFinding {
  std::string severity, address, message, done_instead;
};

struct ExtractionFacts {
  std::string manifest;         // path
  std::string manifest_sha256;  // of it
  std::string made;             // when the report was made, UTC
  std::string source, volume, samples_sha256;
  std::uint64_t source_bytes = 0;
  bool complete = true;
  KindTotal total;
  std::uint64_t deleted = 0, unrecoverable = 0, failed = 0;
  std::map<std::string, KindTotal> kinds;  // by content, else by ending
  std::vector<ReportedFile> files;         // the first of all
  std::vector<ReportedFile> damaged;       // the first of those that are not intact
  std::vector<ReportedFinding> findings;
  std::uint64_t more_findings = 0;
};

constexpr std::size_t kMaxListed = 1000;

// Throws Error{cannot_open, stopped}.
ExtractionFacts facts_of(const std::string& manifest, const Context& context);

}  // namespace lantern::report
