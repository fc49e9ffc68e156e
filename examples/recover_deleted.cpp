// recover_deleted DISK FOLDER: the deleted files of a disk that are still whole, with a manifest.
#include <iostream>

#include "lantern/lantern.h"

int main(int argc, char** argv) {
  if (argc != 3) {
    std::cerr << "recover_deleted DISK FOLDER\n";
    return 2;
  }
  try {
    const lantern::Context context;
    const lantern::Target target = lantern::Session({}, context).open_volume({argv[1], {}});
    lantern::ExtractOptions options;
    options.active = false;
    options.deleted = true;
    // Only those that are whole: the ids of the others are left out.
    lantern::WalkOptions all;
    all.active = false;
    all.deleted = true;
    lantern::walk_target(target, all, [&](const lantern::Entry& entry) {
      if (entry.kind == lantern::EntryKind::file && entry.intact == 1)
        options.ids.push_back(entry.id);
      return lantern::WalkStep::go_on;
    });
    if (options.ids.empty()) {
      std::cout << "nothing deleted is whole\n";
      return 0;
    }
    lantern::Extraction job(target, argv[2], options, *lantern::this_host(), context);
    const lantern::ExtractSummary done = job.run();
    std::cout << done.files << " files, proven by " << done.manifest << '\n';
  } catch (const lantern::Error& error) {
    std::cerr << error.what() << '\n';
    return 3;
  }
}
