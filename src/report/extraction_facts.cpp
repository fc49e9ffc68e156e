#include "report/extraction_facts.h"

#include <algorithm>
#include <cstdlib>
#include <fstream>

#include "base/json_reader.h"
#include "base/sha256.h"
#include "lantern/error.h"
#include "lantern/timestamp.h"

namespace lantern::report {
namespace {

std::string text_in(const JsonValue& row, std::string_view name) {
  const JsonValue* const value = row.find(name);
  if (value == nullptr || value->kind() == JsonValue::Kind::null) return {};
  return value->kind() == JsonValue::Kind::text ? value->text() : value->dump();
}

std::uint64_t number_in(const JsonValue& row, std::string_view name) {
  const JsonValue* const value = row.find(name);
  return value != nullptr && value->kind() == JsonValue::Kind::number ? value->number() : 0;
}

bool yes_in(const JsonValue& row, std::string_view name) {
  return text_in(row, name) == "true";
}

// "tide.csv": by its ending, where its content says nothing.
std::string kind_of(const JsonValue& row) {
  std::string kind = text_in(row, "content");
  if (!kind.empty()) return kind;
  const std::string path = text_in(row, "path");
  const std::size_t dot = path.rfind('.');
  const std::size_t slash = path.rfind('/');
  constexpr std::size_t kMaxEnding = 6;
  if (dot == std::string::npos || (slash != std::string::npos && dot < slash) ||
      path.size() - dot - 1 > kMaxEnding || dot + 1 == path.size())
    return "other";
  kind = path.substr(dot + 1);
  std::transform(kind.begin(), kind.end(), kind.begin(), [](char c) {
    return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  });
  return kind;
}

void add(KindTotal& total, const ReportedFile& file) {
  ++total.files;
  total.bytes += file.size_bytes;
  (file.damaged ? total.damaged : total.intact) += 1;
  total.verified += file.verified ? 1 : 0;
}

void take_file(const JsonValue& row, ExtractionFacts& facts) {
  ReportedFile file;
  file.path = text_in(row, "path");
  if (const std::string stream = text_in(row, "stream"); !stream.empty())
    file.path += " (stream " + stream + ")";
  file.written = text_in(row, "written");
  file.state = text_in(row, "state");
  file.kind = kind_of(row);
  file.intact = text_in(row, "intact");
  file.sha256 = text_in(row, "sha256");
  file.modified = text_in(row, "modified");
  file.evidence = text_in(row, "evidence");
  if (const std::string why = text_in(row, "structure_evidence"); !why.empty())
    file.evidence += (file.evidence.empty() ? "" : "; ") + text_in(row, "content") + ": " + why;
  file.size_bytes = number_in(row, "size_bytes");
  file.verified = yes_in(row, "verified");
  file.damaged = yes_in(row, "partial");
  if (const JsonValue* const lost = row.find("lost"); lost != nullptr)
    for (const auto& [name, range] : lost->members())
      if (range.size() == 2) file.lost_bytes += range.at(1).number();
  if (file.written.empty()) {
    ++(text_in(row, "failed").empty() ? facts.unrecoverable : facts.failed);
    if (text_in(row, "kind") == "file" && facts.damaged.size() < kMaxListed)
      facts.damaged.push_back(file);
    return;
  }
  add(facts.total, file);
  constexpr std::size_t kMaxKinds = 200;
  const bool room = facts.kinds.size() < kMaxKinds || facts.kinds.contains(file.kind);
  add(facts.kinds[room ? file.kind : "other"], file);
  if (file.state != "active") ++facts.deleted;
  if (file.damaged && facts.damaged.size() < kMaxListed) facts.damaged.push_back(file);
  if (facts.files.size() < kMaxListed) facts.files.push_back(std::move(file));
}

}  // namespace

ExtractionFacts facts_of(const std::string& manifest, const Context& context) {
  ExtractionFacts facts;
  facts.manifest = manifest;
  Timestamp now;
  now.seconds = context.clock->now_seconds();
  facts.made = to_iso8601(now);
  std::ifstream in(manifest);
  std::optional<std::vector<std::string>> members;
  try {
    members = visit_json(in, [&](const std::string& member, const JsonValue& value) {
      context.check_cancelled();
      if (member == "job") {
        facts.source = text_in(value, "source");
        facts.volume = text_in(value, "volume");
        facts.samples_sha256 = text_in(value, "source_samples_sha256");
        facts.source_bytes = number_in(value, "source_bytes");
      } else if (member == "complete") {
        facts.complete = value.boolean();
      } else if (member == "files") {
        take_file(value, facts);
      } else if (member == "findings") {
        if (facts.findings.size() < kMaxListed)
          facts.findings.push_back({text_in(value, "severity"), text_in(value, "address"),
                                    text_in(value, "message"), text_in(value, "done_instead")});
        else
          ++facts.more_findings;
      }
    });
  } catch (const JsonMismatch&) {
    members.reset();
  }
  if (!members)
    throw Error(ErrorCode::cannot_open, manifest, std::nullopt,
                "is not a whole manifest of an extraction");
  facts.manifest_sha256 = sha256_of_file(manifest);
  return facts;
}

}  // namespace lantern::report
