#include <lantern/lantern.h>

#include <iostream>

int main(int, char** argv) {
  const lantern::Context context;
  const auto target = lantern::Session({}, context).open_volume({argv[1], {}});
  lantern::walk_target(target, {}, [](const lantern::Entry& entry) {
    std::cout << lantern::for_terminal(entry.path.back()) << '\n';
    return lantern::WalkStep::go_on;
  });
}
