// make_corpus FOLDER: the first inputs that the builders of the tests lay: one volume of each of
// these file systems, with something of everything its reader knows.
#include <fstream>

#include "kit/exfat_builder.h"
#include "kit/iso_builder.h"
#include "kit/ntfs_builder.h"
#include "kit/ntfs_traces.h"
#include "kit/shadow_builder.h"

namespace {

using lantern::kit::Bytes;
using lantern::kit::ExfatBuilder;
using lantern::kit::IsoBuilder;
using lantern::kit::NtfsBuilder;
using lantern::kit::pattern;
using lantern::kit::reference;
using lantern::kit::ShadowBuilder;

Bytes exfat() {
  ExfatBuilder volume;
  volume.folder(ExfatBuilder::kRoot, "folder", 10);
  volume.file(10, "file", pattern(1000, 1), {20, 21});
  volume.file(ExfatBuilder::kRoot, "a name of more than one slot", pattern(1500, 2), {30, 40, 31});
  volume.remove(volume.file(ExfatBuilder::kRoot, "gone", pattern(700, 3), {50, 51}), {50, 51});
  volume.remove(volume.folder(ExfatBuilder::kRoot, "old", 60), {60});
  Bytes bytes = volume.bytes();
  bytes.resize(ExfatBuilder::place(64));
  return bytes;
}

Bytes ntfs() {
  NtfsBuilder volume;
  volume.folder(24, NtfsBuilder::kRoot, "folder");
  volume.file(25, 24, "file", 92, pattern(1000, 1));
  volume.small(26, 24, "small", pattern(300, 2));
  volume.remove(26);
  volume.file(27, NtfsBuilder::kRoot, "gone", 94, pattern(1500, 3));
  volume.remove(27);
  const Bytes standard = NtfsBuilder::standard(NtfsBuilder::kNow, NtfsBuilder::kNow);
  const auto named = [](const char* name) {
    return NtfsBuilder::name(NtfsBuilder::kRoot, 5, name, NtfsBuilder::kNow);
  };
  Bytes list = NtfsBuilder::list_entry(0x80, 0, 28, 1);
  const Bytes rest = NtfsBuilder::list_entry(0x80, 2, 29, 1);
  list.insert(list.end(), rest.begin(), rest.end());
  volume.record(28, 1, 1,
                {standard, NtfsBuilder::resident(0x20, list), named("in parts"),
                 NtfsBuilder::stored(0x80, {{96, 2}}, 3000)});
  volume.record(29, 1, 1, {NtfsBuilder::stored(0x80, {{98, 1}}, 0, {}, 0, 2)}, 28, 1);
  // Packed: "abc", then as far back as it goes.
  Bytes packed;
  for (const int byte : {0x05, 0xB0, 0x08, 0x61, 0x62, 0x63, 0xFF, 0x2F, 0, 0})
    packed.push_back(static_cast<std::byte>(byte));
  volume.write(100, packed);
  volume.record(30, 1, 1,
                {standard, named("packed"),
                 NtfsBuilder::stored(0x80, {{100, 1}, {NtfsBuilder::kHole, 3}}, 4000, {}, 1, 0, 2),
                 NtfsBuilder::resident(0x80, pattern(20, 4), "stream"),
                 NtfsBuilder::resident(
                     0xE0, lantern::kit::bytes_of(std::string("\0\0\0\0\0\4\3\0user\0one", 16)))});
  volume.record(31, 1, 1,
                {standard, named("link"),
                 NtfsBuilder::resident(
                     0xC0, lantern::kit::bytes_of(std::string(
                               "\x0C\0\0\xA0\x10\0\0\0\0\0\4\0\0\0\4\0\0\0\0\0f\0o\0", 24)))});
  Bytes journal;
  lantern::kit::append(journal, {reference(27, 1), reference(24, 1), "gone"});
  lantern::kit::append(journal, {reference(25, 7), reference(26, 9), "older"}, 3);
  volume.write(104, journal);
  volume.folder(11, NtfsBuilder::kRoot, "$Extend");
  volume.record(32, 1, 1,
                {standard, NtfsBuilder::name(11, 1, "$UsnJrnl", NtfsBuilder::kNow),
                 NtfsBuilder::stored(0x80, {{104, 1}}, journal.size(), "$J")});
  const Bytes log = lantern::kit::log_of({lantern::kit::taken_out(
      9, reference(30, 5), NtfsBuilder::name(24, 1, "older still", NtfsBuilder::kNow), 8)});
  volume.write(106, log);
  volume.record(2, 2, 1,
                {standard, named("$LogFile"), NtfsBuilder::stored(0x80, {{106, 12}}, log.size())});
  Bytes bytes = volume.bytes();
  bytes.resize(118 * NtfsBuilder::kCluster);
  return bytes;
}

Bytes iso9660() {
  IsoBuilder disc(true);
  disc.folder(IsoBuilder::kRoot, "folder", 21);
  disc.file(21, "file", pattern(1000, 1), 24);
  disc.file(IsoBuilder::kRoot, "tide", pattern(3000, 2), 26);
  disc.record(IsoBuilder::kRoot, "link", 0, 0, 0,
              IsoBuilder::field("SL", lantern::kit::bytes_of(std::string("\0\0\4log", 6))));
  Bytes bytes = disc.bytes();
  bytes.resize(IsoBuilder::place(28));
  return bytes;
}

Bytes shadow_copies() {
  ShadowBuilder volume(3);
  volume.keep_copy(1);
  volume.write(1, pattern(ShadowBuilder::kBlock, 1));
  volume.move(2, 1);
  return volume.bytes();
}

}  // namespace

int main(int, char** arguments) {
  const std::string folder = arguments[1];
  for (const auto& [name, bytes] :
       {std::pair("exfat", exfat()), std::pair("iso9660", iso9660()), std::pair("ntfs", ntfs()),
        std::pair("shadow_copies", shadow_copies())}) {
    const std::string text = lantern::kit::text_of(bytes);
    std::ofstream(folder + "/" + name + "/whole", std::ios::binary) << text;
  }
}
