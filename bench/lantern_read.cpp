// lantern_read FILE PIECE: reads all of a disk through the library in pieces of so many bytes.
// lantern_read --bare FILE PIECE: the same with bare pread, the machine's own limit.
// lantern_read --make-vdi RAW OUT: a dynamic VDI of a raw image, for measuring.
// lantern_read --make-fat OUT: FAT32, 100 folders of 1000 files.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>
#include <iostream>
#include <string>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/lantern.h"

namespace {

namespace kit = lantern::kit;

int read_bare(const char* path, std::size_t piece_bytes) {
  const int file = open(path, O_RDONLY | O_CLOEXEC);
  kit::Bytes piece(piece_bytes);
  off_t at = 0;
  for (ssize_t got = 1; got > 0; at += got) got = pread(file, piece.data(), piece.size(), at);
  close(file);
  return 0;
}

int read_through(const char* path, std::size_t piece_bytes) {
  const lantern::Context context;
  const auto disk = lantern::Session({}, context).open_first({path, {}})->bytes;
  kit::Bytes piece(piece_bytes);
  for (std::uint64_t at = 0; at < disk->size(); at += piece.size()) disk->read(at, piece);
  return 0;
}

int write_file(const kit::Bytes& bytes, const char* path) {
  std::ofstream(path, std::ios::binary)
      .write(kit::text_of(bytes).data(), static_cast<std::streamsize>(bytes.size()));
  return 0;
}

int make_vdi(const char* raw, const char* out) {
  return write_file(kit::make_vdi(kit::read_file(raw), {}), out);
}

int make_fat(const char* path) {
  constexpr std::uint32_t folder_clusters = 251;  // 1000 names of four slots, and the two dots
  kit::FatBuilder volume(kit::FatBuilder::Width::fat32, 150'000, 512);
  std::vector<std::uint32_t> root;
  std::uint32_t next = kit::FatBuilder::kRootCluster + 1;
  for (std::uint32_t i = 0; i < 20; ++i) {
    volume.link(i == 0 ? kit::FatBuilder::kRootCluster : next - 1, next);
    root.push_back(next++);
  }
  volume.link(next - 1, 0x0FFFFFFF);
  volume.extend_root(root);
  for (int d = 0; d < 100; ++d) {
    std::vector<std::uint32_t> clusters;
    for (std::uint32_t i = 0; i < folder_clusters; ++i) clusters.push_back(next++);
    volume.folder(0, fmt::format("Nest counts {:02}", d), clusters);
    for (int n = 0; n < 1000; ++n)
      volume.file(clusters[0], fmt::format("Count of the north ledge {:04}.csv", n),
                  kit::pattern(40, 1), {next++});
  }
  return write_file(volume.bytes(), path);
}

}  // namespace

int main(int argc, char** argv) {
  const std::string first = argc > 1 ? argv[1] : "";
  if (argc == 4 && first == "--bare") return read_bare(argv[2], std::stoul(argv[3]));
  if (argc == 4 && first == "--make-vdi") return make_vdi(argv[2], argv[3]);
  if (argc == 3 && first == "--make-fat") return make_fat(argv[2]);
  if (argc == 3) return read_through(argv[1], std::stoul(argv[2]));
  std::cerr << "lantern_read [--bare] FILE PIECE\n";
  return 2;
}
