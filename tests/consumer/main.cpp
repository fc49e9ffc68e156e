#include <lantern/lantern.h>

#include <iostream>

int main(int, char** argv) {
  const lantern::Context context;
  const auto target = lantern::open_volume_target({argv[1], {}}, {}, context);
  lantern::walk_target(target, {}, [](const lantern::Entry& entry) {
    std::cout << lantern::for_terminal(entry.path.back()) << '\n';
    return lantern::WalkStep::go_on;
  });
}
