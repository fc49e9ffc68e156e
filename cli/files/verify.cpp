#include <fmt/format.h>

#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

struct Options {
  bool json = false;
  std::string manifest;
  std::string folder;
  std::string case_folder;
};

int verify_files(Job& job, const Options& options) {
  std::ostream& out = job.streams.out;
  std::optional<JsonWriter> json;
  if (options.json) {
    json.emplace(out);
    json->begin_object().key("problems").begin_array();
  }
  const ManifestCheck check = check_manifest(
      options.manifest, options.folder, job.context, [&](const ManifestProblem& problem) {
        if (json)
          json->begin_object()
              .key("path")
              .value(problem.path)
              .key("written")
              .value(problem.written)
              .key("state")
              .value(to_string(problem.state))
              .end_object();
        else
          out << coloured(job.streams, Meaning::damaged,
                          fmt::format("{:<11}{}", to_string(problem.state),
                                      for_terminal(problem.written)))
              << '\n';
      });
  const int code = check.good() ? kDone : kDoneWithFindings;
  append_to_case(options.case_folder, job, {options.manifest},
                 {{options.manifest, check.manifest_sha256}}, code);
  if (json) {
    json->end_array().key("folder").value(check.folder);
    json->key("manifest_sha256").value(check.manifest_sha256);
    json->key("complete").value(check.complete).key("files").value(check.files);
    json->key("matching").value(check.matching).key("by_size").value(check.by_size);
    json->key("bad").value(check.bad).end_object();
    return code;
  }
  out << coloured(job.streams, check.bad == 0 ? Meaning::good : Meaning::damaged,
                  fmt::format("{} of {} files are as they were written",
                              check.matching + check.by_size, check.files))
      << '\n';
  if (check.by_size > 0)
    out << fmt::format("  {} of them by their size alone: the manifest has no SHA-256 of them\n",
                       check.by_size);
  if (!check.complete)
    out << "  the extraction was stopped: the manifest does not have all files\n";
  out << "manifest: " << for_terminal(options.manifest) << "\n  SHA-256 " << check.manifest_sha256
      << '\n';
  return code;
}

}  // namespace

Run add_verify(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("verify", "check extracted files against their manifest");
  command.option("MANIFEST", options->manifest, "what extract left beside the files").required();
  command.option("--folder", options->folder, "where the files are, when not beside the manifest");
  command.flag("--json", options->json, "one JSON document on standard output");
  command.option("--case", options->case_folder, "append what was done to DIR/case.jsonl");
  command.footer("Example: lantern verify RESCUED.manifest.json");
  return [&job, options] { return verify_files(job, *options); };
}

}  // namespace lantern::cli
