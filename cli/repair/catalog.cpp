#include <fmt/format.h>

#include <filesystem>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/repair/sweep_summary.h"
#include "cli/repair/sweep_view.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::string action;
  std::vector<std::string> parts;
  std::string out;
  std::vector<std::string> signatures;
  std::string disk;
};

int merge(Job& job, const Options& options) {
  // The disk is where it was swept, or beside the first part, or as it is named.
  std::string disk = options.disk;
  if (disk.empty()) disk = disk_of_catalog(options.parts.front());
  const Address address = Address::parse(disk);
  const Session& session = options.common.session(job);
  const Target target = session.open_disk(address);
  SweepOptions how;
  how.catalog = options.out;
  how.signatures = options.signatures;
  SweepView view(job.streams);
  view.follow(how, false);
  const SweepSummary done = merge_catalogs(target.disk(), options.parts, how, session, job.context);
  view.clear();
  if (options.common.json) {
    print_summary_json(job, done, how.catalog);
  } else {
    print_summary(job, done, address, how.catalog);
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {{how.catalog, {}}}, code);
  return code;
}

}  // namespace

Run add_catalog(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("catalog", "make one catalog of those that sweeps of parts of a disk made");
  options->common.add_to(command, job);
  command.option("ACTION", options->action, "merge").required().one_of({"merge"});
  command.option("PART", options->parts, "the catalogs of all parts, in any order").required();
  command.option("-o", options->out, "the catalog of the whole disk").required();
  command.option("--disk", options->disk,
                 "where the disk is now, when it is not where it was swept");
  command.option("--signatures", options->signatures, "as the parts were swept with");
  command.footer("Example: lantern catalog merge part-1.catalog part-2.catalog -o broken.catalog");
  return [&job, options] { return merge(job, *options); };
}

}  // namespace lantern::cli
