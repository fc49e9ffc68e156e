#include <fmt/format.h>
#include <zstd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <memory>
#include <ostream>
#include <span>

#include "cli/commands.h"

extern "C" {
extern const char lantern_demo_station[];
extern const char lantern_demo_station_end[];
extern const char lantern_demo_card[];
extern const char lantern_demo_card_end[];
extern const char lantern_demo_tower[];
extern const char lantern_demo_tower_end[];
extern const char lantern_demo_server_a[];
extern const char lantern_demo_server_a_end[];
extern const char lantern_demo_server_b[];
extern const char lantern_demo_server_b_end[];
extern const char lantern_demo_server_c[];
extern const char lantern_demo_server_c_end[];
extern const char lantern_demo_hashes[];
extern const char lantern_demo_hashes_end[];
}

namespace lantern::cli {
namespace {

// The station's machine, as the computer it ran on described it: the path is that computer's.
constexpr std::string_view kMachine =
    "<domain type='kvm'>\n"
    "  <name>station</name>\n"
    "  <devices>\n"
    "    <disk type='file' device='disk'>\n"
    "      <source file='/var/lib/machines/station.vdi'/>\n"
    "      <target dev='sda' bus='sata'/>\n"
    "    </disk>\n"
    "  </devices>\n"
    "</domain>\n";

// Six disks for practice, two of one model and size, one that fails.
constexpr std::string_view kBench =
    R"({"simulated_disks": [
  {"model": "Tern NVMe 512", "serial": "TN-88214", "bus": "nvme", "port": "bench-slot-1",
   "image": "own-disk.img", "computers_own": true, "used_by": ["mounted on /"]},
  {"model": "Gannet 4000", "serial": "GN-30417", "bus": "ata", "port": "bench-bay-1",
   "image": "tower.img", "rotations_per_minute": 7200, "temperature_celsius": 34},
  {"model": "Gannet 4000", "serial": "GN-30425", "bus": "ata", "port": "bench-bay-2",
   "image": "spare.img", "rotations_per_minute": 7200, "temperature_celsius": 33},
  {"model": "Skua 320", "serial": "SK-00961", "bus": "usb", "port": "bench-usb-1",
   "image": "camera-card.img", "removable": true, "rotations_per_minute": 5400,
   "temperature_celsius": 47,
   "health": "31 requests failed since it was connected",
   "unreadable": [[739328, 1024], [786432, 4096], [30408704, 131072]],
   "flaky": [{"range": [131072, 8192], "failures": 2}, {"range": [1048576, 4096], "failures": 1}],
   "slow": [{"range": [20971520, 1048576], "milliseconds": 20}]},
  {"model": "Card Reader", "serial": "0123456789", "bus": "usb", "port": "bench-usb-2",
   "image": "camera-card.img", "removable": true, "read_only": true,
   "mounted": [{"partition": 1, "on": "/media/keeper/CARD"}]},
  {"model": "Puffin Stick", "serial": "0123456789", "bus": "usb", "port": "bench-usb-3",
   "image": "spare.img", "removable": true}
]}
)";
constexpr std::uintmax_t kOwnDiskBytes = 64u << 20;

constexpr std::size_t kPieceBytes = 1 << 16;

[[noreturn]] void fail(const std::string& path, const std::string& what) {
  throw Error(ErrorCode::cannot_write, path, std::nullopt, what, "choose another folder");
}

std::ofstream open_new(const std::string& path) {
  if (std::filesystem::exists(path)) fail(path, "is there already; nothing is replaced");
  std::ofstream out(path, std::ios::binary);
  if (!out) fail(path, std::strerror(errno));
  return out;
}

bool all_zero(std::span<const char> bytes) {
  for (const char c : bytes)
    if (c != 0) return false;
  return true;
}

// Unpacks one disk, its runs of zeros as holes.
void lay_out(const std::string& path, std::span<const char> packed) {
  std::ofstream out = open_new(path);
  const std::unique_ptr<ZSTD_DStream, decltype(&ZSTD_freeDStream)> stream(ZSTD_createDStream(),
                                                                          &ZSTD_freeDStream);
  std::vector<char> piece(kPieceBytes);
  ZSTD_inBuffer in{packed.data(), packed.size(), 0};
  std::uint64_t length = 0;
  while (in.pos < in.size) {
    ZSTD_outBuffer unpacked{piece.data(), piece.size(), 0};
    if (ZSTD_isError(ZSTD_decompressStream(stream.get(), &unpacked, &in)))
      fail(path, "the demo disk inside this program is damaged");
    const auto bytes = std::span(piece).first(unpacked.pos);
    if (!all_zero(bytes)) {
      out.seekp(static_cast<std::streamoff>(length));
      out.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    }
    length += bytes.size();
  }
  out.close();
  if (!out) fail(path, "cannot be written in full");
  std::filesystem::resize_file(path, length);
}

int store_out_demo(Job& job, const std::string& folder) {
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error) fail(folder, error.message());
  lay_out(folder + "/station.vdi", {lantern_demo_station, lantern_demo_station_end});
  lay_out(folder + "/camera-card.img", {lantern_demo_card, lantern_demo_card_end});
  lay_out(folder + "/tower.img", {lantern_demo_tower, lantern_demo_tower_end});
  std::filesystem::create_directories(folder + "/server", error);
  if (error) fail(folder + "/server", error.message());
  lay_out(folder + "/server/server-a.img", {lantern_demo_server_a, lantern_demo_server_a_end});
  lay_out(folder + "/server/server-b.img", {lantern_demo_server_b, lantern_demo_server_b_end});
  lay_out(folder + "/server/server-c.img", {lantern_demo_server_c, lantern_demo_server_c_end});
  open_new(folder + "/contents.sha256")
      .write(lantern_demo_hashes, lantern_demo_hashes_end - lantern_demo_hashes);
  open_new(folder + "/station.xml") << kMachine;
  open_new(folder + "/bench.json") << kBench;
  // The disks of the bench that nobody looks into, all hole.
  open_new(folder + "/own-disk.img").close();
  std::filesystem::resize_file(folder + "/own-disk.img", kOwnDiskBytes);
  open_new(folder + "/spare.img").close();
  std::filesystem::resize_file(folder + "/spare.img",
                               std::filesystem::file_size(folder + "/tower.img"));
  job.streams.out << fmt::format(
      "The demo disks of Skerrow Light are in {}:\n"
      "  station.vdi      the station's machine: a boot volume and the keeper's data\n"
      "  station.xml      how its computer described the machine\n"
      "  camera-card.img  the seabird camera's card\n"
      "  tower.img        the tower's computer, on which a machine's folder was deleted\n"
      "  server/          three disks of the station's server: a parity array, in it a volume\n"
      "                   group, in that the disks of two machines\n"
      "  contents.sha256  what was on them, to check against\n"
      "  bench.json       six simulated disks, for --simulate: one of them fails\n"
      "  own-disk.img, spare.img  two of those, empty\n\n"
      "Next:\n  lantern survey {}/station.vdi\n  lantern machines {}\n"
      "  lantern survey {}/server\n",
      for_terminal(folder), for_terminal(folder), for_terminal(folder), for_terminal(folder));
  return kDone;
}

}  // namespace

Run add_demo(OptionParser& parser, Job& job) {
  auto folder = std::make_shared<std::string>();
  const Command command = parser.command("demo", "writes the demo disks of Skerrow Light");
  command.option("DIR", *folder, "the folder to write them to").required();
  command.footer("Example: lantern demo skerrow");
  return [&job, folder] { return store_out_demo(job, *folder); };
}

}  // namespace lantern::cli
