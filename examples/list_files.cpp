// list_files DISK: the files of the volume that most likely holds the user's, deleted ones
// included.
#include <iostream>

#include "lantern/lantern.h"

int main(int argc, char** argv) {
  if (argc != 2) {
    std::cerr << "list_files DISK\n";
    return 2;
  }
  try {
    const lantern::Context context;
    const lantern::Target target = lantern::Session({}, context).open_volume({argv[1], {}});
    lantern::WalkOptions options;
    options.deleted = true;
    lantern::walk_target(target, options, [](const lantern::Entry& entry) {
      std::cout << to_string(entry.state) << '\t' << entry.size_bytes << '\t';
      for (const std::string& name : entry.path) std::cout << '/' << lantern::for_terminal(name);
      std::cout << '\n';
      return lantern::WalkStep::go_on;
    });
    for (const lantern::Finding& finding : context.findings->all())
      std::cerr << to_string(finding.severity) << ": " << finding.message << '\n';
  } catch (const lantern::Error& error) {
    std::cerr << error.what() << '\n';
    return 3;
  }
}
