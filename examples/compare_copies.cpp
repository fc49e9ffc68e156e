// compare_copies A B: the first byte in which two disks differ, whatever container each is in.
#include <algorithm>
#include <iostream>
#include <vector>

#include "lantern/lantern.h"

int main(int argc, char** argv) {
  if (argc != 3) {
    std::cerr << "compare_copies A B\n";
    return 2;
  }
  try {
    const lantern::Context context;
    const lantern::SourcePtr a = lantern::Session({}, context).open_first({argv[1], {}})->bytes;
    const lantern::SourcePtr b = lantern::Session({}, context).open_first({argv[2], {}})->bytes;
    std::vector<std::byte> left(1 << 20);
    std::vector<std::byte> right(left.size());
    for (std::uint64_t at = 0; at < std::min(a->size(), b->size()); at += left.size()) {
      const std::size_t length = std::min(a->read(at, left).length, b->read(at, right).length);
      const auto end = left.begin() + static_cast<std::ptrdiff_t>(length);
      const auto differs = std::mismatch(left.begin(), end, right.begin()).first;
      if (differs == end) continue;
      std::cout << "they differ at byte " << at + static_cast<std::uint64_t>(differs - left.begin())
                << '\n';
      return 1;
    }
    std::cout << (a->size() == b->size() ? "the same\n" : "the same as far as the shorter goes\n");
  } catch (const lantern::Error& error) {
    std::cerr << error.what() << '\n';
    return 3;
  }
}
