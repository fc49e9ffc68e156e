#include "lantern/report/extraction_report.h"

#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "lantern/error.h"
#include "lantern/text.h"
#include "report/extraction_facts.h"

namespace lantern {
namespace {

using report::ExtractionFacts;
using report::KindTotal;
using report::ReportedFile;

std::string size_text(std::uint64_t bytes) {
  return bytes < 1024 ? fmt::format("{} bytes", bytes) : human_size(bytes);
}

std::string percent(const ReportedFile& file) {
  if (file.intact.empty()) return "not known";
  const double share = std::strtod(file.intact.c_str(), nullptr);
  if (share >= 1) return "100 %";
  return fmt::format("{:.0f} %", std::min(std::floor(share * 100), 99.0));
}

// What a line of the table of kinds says, the sum first.
std::vector<std::pair<std::string, KindTotal>> rows_of(const ExtractionFacts& facts) {
  std::vector<std::pair<std::string, KindTotal>> rows = {{"all", facts.total}};
  rows.insert(rows.end(), facts.kinds.begin(), facts.kinds.end());
  return rows;
}

std::vector<std::string> sums_of(const ExtractionFacts& facts) {
  std::vector<std::string> sums = {
      fmt::format("{} written, {}", counted(facts.total.files, "file"),
                  size_text(facts.total.bytes)),
      fmt::format("{} of them intact, {} verified by checksums in their contents",
                  facts.total.intact, facts.total.verified)};
  const auto more = [&](std::uint64_t number, std::string_view what) {
    if (number > 0) sums.push_back(fmt::format("{} {}", number, what));
  };
  more(facts.deleted, "of them had been deleted");
  more(facts.total.damaged, "of them incomplete or in doubt: listed below");
  more(facts.unrecoverable, "more of which nothing is left");
  more(facts.failed, "more could not be written");
  if (!facts.complete) sums.emplace_back("the extraction was stopped: this is not all");
  return sums;
}

std::vector<std::pair<std::string, std::string>> head_of(const ExtractionFacts& facts,
                                                         const std::string& verify_command) {
  return {{"Source", facts.source},
          {"Size of the source", fmt::format("{} bytes", grouped(facts.source_bytes))},
          {"SHA-256 of samples of it", facts.samples_sha256},
          {"Volume", facts.volume},
          {"Report made", facts.made},
          {"Manifest", facts.manifest},
          {"SHA-256 of the manifest", facts.manifest_sha256},
          {"To check the files later", verify_command}};
}

void write_text(std::ostream& out, const ExtractionFacts& facts,
                const std::string& verify_command) {
  out << "What was extracted\n\n";
  for (const auto& [what, value] : head_of(facts, verify_command))
    out << fmt::format("{:<26}{}\n", what, for_terminal(value));
  out << '\n';
  for (const std::string& sum : sums_of(facts)) out << sum << '\n';
  out << fmt::format("\n{:<12}{:>8}{:>12}{:>9}{:>10}{:>9}\n", "KIND", "FILES", "SIZE", "INTACT",
                     "VERIFIED", "DAMAGED");
  for (const auto& [kind, total] : rows_of(facts))
    out << fmt::format("{:<12}{:>8}{:>12}{:>9}{:>10}{:>9}\n", for_terminal(kind), total.files,
                       size_text(total.bytes), total.intact, total.verified, total.damaged);
  if (!facts.damaged.empty()) out << "\nIncomplete, in doubt or not written\n";
  for (const ReportedFile& file : facts.damaged) {
    out << fmt::format("  {:>9} intact  {}\n", percent(file), for_terminal(file.path));
    if (file.lost_bytes > 0)
      out << fmt::format("  {:>16}  {} of {} bytes are lost\n", "", file.lost_bytes,
                         file.size_bytes);
    if (!file.evidence.empty())
      out << fmt::format("  {:>16}  {}\n", "", for_terminal(file.evidence));
  }
  if (!facts.findings.empty()) out << "\nFindings\n";
  for (const auto& finding : facts.findings)
    out << fmt::format(
        "  {:<8} {}: {}{}\n", finding.severity, for_terminal(finding.address),
        for_terminal(finding.message),
        finding.done_instead.empty() ? "" : "; " + for_terminal(finding.done_instead));
  if (facts.more_findings > 0)
    out << fmt::format("  and {} more: the manifest has them all\n", facts.more_findings);
  out << "\nThe manifest has every file with its size, dates, SHA-256 and what is lost of it.\n";
}

// Text of a page: what a browser would take for a sign, or not show, is written out.
std::string in_page(const std::string& text) {
  std::string safe;
  for (const char c : for_terminal(text)) {
    switch (c) {
      case '&':
        safe += "&amp;";
        break;
      case '<':
        safe += "&lt;";
        break;
      case '>':
        safe += "&gt;";
        break;
      case '"':
        safe += "&quot;";
        break;
      default:
        safe += c;
    }
  }
  return safe;
}

constexpr std::string_view kStyle = R"(
body{font:15px/1.45 system-ui,sans-serif;color:#1c242c;background:#fff;
  max-width:76rem;margin:2rem auto;padding:0 1.5rem}
h1{font-size:1.6rem;margin:0 0 1rem}
h2{font-size:1.1rem;margin:2rem 0 .5rem;border-bottom:1px solid #cfd6dd;padding-bottom:.2rem}
table{border-collapse:collapse;width:100%}
th{text-align:left;font-weight:600;color:#51606e;font-size:.85rem}
th,td{padding:.22rem .8rem .22rem 0;vertical-align:top;border-bottom:1px solid #eceff2}
td.n,th.n{text-align:right;white-space:nowrap}
table.kinds{width:auto}
table.kinds th,table.kinds td{padding-right:2.2rem}
td.p{overflow-wrap:anywhere;min-width:17rem}
td.h{font:12px/1.6 ui-monospace,monospace;overflow-wrap:anywhere;color:#51606e;min-width:17rem}
table.head th{width:15rem;white-space:nowrap}
code{font:13px ui-monospace,monospace;overflow-wrap:anywhere}
.bad{color:#a4201a}.good{color:#1c6b3c}.quiet{color:#51606e}
ul{margin:.6rem 0;padding-left:1.2rem}
)";

void write_kinds(std::ostream& out, const ExtractionFacts& facts) {
  out << "<h2>By kind</h2>\n<table class=kinds><tr><th>Kind</th><th class=n>Files</th><th "
         "class=n>Size</th>"
         "<th class=n>Intact</th><th class=n>Verified</th><th class=n>Damaged</th></tr>\n";
  for (const auto& [kind, total] : rows_of(facts))
    out << fmt::format(
        "<tr><td>{}</td><td class=n>{}</td><td class=n>{}</td><td class=n>{}</td>"
        "<td class=n>{}</td><td class=\"n{}\">{}</td></tr>\n",
        in_page(kind), total.files, size_text(total.bytes), total.intact, total.verified,
        total.damaged > 0 ? " bad" : "", total.damaged);
  out << "</table>\n";
}

void write_damaged(std::ostream& out, const ExtractionFacts& facts) {
  if (facts.damaged.empty()) return;
  out << "<h2>Incomplete, in doubt or not written</h2>\n<table><tr><th class=n>Intact</th>"
         "<th>File</th><th>What is known</th></tr>\n";
  for (const ReportedFile& file : facts.damaged)
    out << fmt::format(
        "<tr><td class=\"n bad\">{}</td><td class=p>{}</td><td class=\"p quiet\">{}{}</td></tr>\n",
        percent(file), in_page(file.path),
        file.lost_bytes > 0
            ? fmt::format("{} of {} bytes are lost; ", file.lost_bytes, file.size_bytes)
            : "",
        in_page(file.evidence));
  out << "</table>\n";
}

void write_findings(std::ostream& out, const ExtractionFacts& facts) {
  if (facts.findings.empty()) return;
  out << "<h2>Findings</h2>\n<table>\n";
  for (const auto& finding : facts.findings)
    out << fmt::format(
        "<tr><td class=\"{}\">{}</td><td class=p>{}</td><td class=p>{}{}</td></tr>\n",
        finding.severity == "note" ? "quiet" : "bad", in_page(finding.severity),
        in_page(finding.address), in_page(finding.message),
        finding.done_instead.empty() ? "" : "; " + in_page(finding.done_instead));
  out << "</table>\n";
  if (facts.more_findings > 0)
    out << fmt::format("<p class=quiet>and {} more: the manifest has them all</p>\n",
                       facts.more_findings);
}

void write_files(std::ostream& out, const ExtractionFacts& facts) {
  out << "<h2>Files</h2>\n<table><tr><th>File</th><th class=n>Size</th><th class=n>Intact</th>"
         "<th>SHA-256</th></tr>\n";
  for (const ReportedFile& file : facts.files)
    out << fmt::format(
        "<tr><td class=p>{}{}</td><td class=n>{}</td><td class=\"n {}\">{}</td>"
        "<td class=h>{}</td></tr>\n",
        in_page(file.path), file.state == "active" ? "" : " <span class=quiet>(deleted)</span>",
        size_text(file.size_bytes), file.damaged ? "bad" : "good",
        file.verified ? "verified" : percent(file), file.sha256);
  out << "</table>\n";
  if (facts.total.files > facts.files.size())
    out << fmt::format("<p class=quiet>and {} more: the manifest has them all</p>\n",
                       facts.total.files - facts.files.size());
}

void write_page(std::ostream& out, const ExtractionFacts& facts,
                const std::string& verify_command) {
  out << "<!DOCTYPE html>\n<html lang=en><head><meta charset=utf-8>\n"
         "<meta name=viewport content=\"width=device-width\">\n<title>What was extracted</title>\n"
      << "<style>" << kStyle << "</style></head><body>\n<h1>What was extracted</h1>\n"
      << "<table class=head>\n";
  for (const auto& [what, value] : head_of(facts, verify_command))
    out << fmt::format("<tr><th>{}</th><td><code>{}</code></td></tr>\n", what, in_page(value));
  out << "</table>\n<ul>\n";
  for (const std::string& sum : sums_of(facts)) out << "<li>" << sum << "</li>\n";
  out << "</ul>\n";
  write_kinds(out, facts);
  write_damaged(out, facts);
  write_findings(out, facts);
  write_files(out, facts);
  out << "</body></html>\n";
}

template <typename Write>
void replace_file(const std::string& path, Write write) {
  const std::string unfinished = path + ".new";
  {
    std::ofstream out(unfinished, std::ios::trunc);
    write(out);
    out.flush();
    if (!out)
      throw Error(ErrorCode::cannot_write, path, std::nullopt, "the report cannot be written",
                  "make room for it beside the manifest");
  }
  std::filesystem::rename(unfinished, path);
}

}  // namespace

ReportFiles report_extraction(const std::string& manifest, const std::string& verify_command,
                              const Context& context) {
  const ExtractionFacts facts = report::facts_of(manifest, context);
  std::string stem = manifest;
  for (const std::string_view ending : {".manifest.json", ".json"})
    if (stem.size() > ending.size() && stem.ends_with(ending)) {
      stem.erase(stem.size() - ending.size());
      break;
    }
  const ReportFiles files{stem + ".report.txt", stem + ".report.html"};
  replace_file(files.text, [&](std::ostream& out) { write_text(out, facts, verify_command); });
  replace_file(files.page, [&](std::ostream& out) { write_page(out, facts, verify_command); });
  return files;
}

}  // namespace lantern
