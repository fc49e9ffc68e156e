// Extraction report: what an extraction took, as a text and as one page to hand over, made from its
// manifest.
//
//   const std::string check = "lantern verify RESCUED.manifest.json";
//   const ReportFiles files = report_extraction("RESCUED.manifest.json", check, context);
//
// Thread-safety: may be called from any thread.
#pragma once

#include <string>

#include "lantern/context.h"

namespace lantern {

struct ReportFiles {
  std::string text;  // path of RESCUED.report.txt
  std::string page;  // path of RESCUED.report.html, which needs no other file and no network
};

// Beside the manifest; an earlier report there is replaced. `command`: the program's name for
// the check of the hashes, in words to type. Throws Error{cannot_open, cannot_write, stopped}.
ReportFiles report_extraction(const std::string& manifest, const std::string& verify_command,
                              const Context& context);

}  // namespace lantern
