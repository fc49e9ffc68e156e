// Every function of a public header that takes a target, a source or an address: an empty or
// partial one is an Error, never a crash.
#include <gtest/gtest.h>

#include <functional>
#include <sstream>
#include <string>
#include <utility>
#include <vector>

#include "kit/bytes.h"
#include "lantern/lantern.h"
#include "source/failing_source.h"
#include "source/laid_writes.h"

namespace lantern {
namespace {

using namespace repair;

using Call = std::pair<std::string, std::function<void()>>;

bool throws_error(const std::function<void()>& call) {
  try {
    call();
  } catch (const Error& error) {
    return std::string(error.what()).find('\n') == std::string::npos;
  }
  return false;
}

void expect_errors(const std::string& of, const std::vector<Call>& calls) {
  for (const auto& [name, call] : calls) EXPECT_TRUE(throws_error(call)) << name << " of " << of;
}

// A target with all that leads to it, but the last part that would make it whole.
std::vector<std::pair<std::string, Target>> partial_targets(const Context& context) {
  std::vector<std::pair<std::string, Target>> targets;
  targets.emplace_back("nothing", Target());
  Target no_disk;
  no_disk.volume = std::make_shared<VolumeLayer>();
  targets.emplace_back("a volume without a disk", no_disk);
  Target unopened;
  unopened.disks.push_back(std::make_shared<DiskLayer>());
  targets.emplace_back("a disk that was not opened", unopened);
  unopened.volume = std::make_shared<VolumeLayer>();
  targets.emplace_back("a volume of a disk that was not opened", unopened);
  Address address;
  address.first = "station.img";
  Target disk;
  disk.disks.push_back(
      Session({}, context)
          .open_bytes(make_memory_source(std::vector<std::byte>(1u << 20)), address, {}));
  disk.volume = std::make_shared<VolumeLayer>();
  targets.emplace_back("a volume that was not opened", disk);
  return targets;
}

TEST(PartialTargets, AreErrors) {
  const kit::Folder folder;
  const Context context;
  for (const auto& [name, target] : partial_targets(context)) {
    const Target& t = target;
    const auto content = make_memory_source(std::vector<std::byte>(16));
    std::vector<Call> calls = {
        {"Target::volume_layer", [&] { t.volume_layer(); }},
        {"Target::file_system", [&] { t.file_system(); }},
        {"walk_target", [&] { walk_target(t, {}, [](const Entry&) { return WalkStep::go_on; }); }},
        {"walk_versions",
         [&] {
           walk_versions(t, {}, Session({}, context),
                         [](const VolumeLayer&, const DiskVersion&, const Entry&) {});
         }},
        {"search", [&] { search(t, {}, [](const Entry&) { return true; }); }},
        {"Extraction",
         [&] { Extraction(t, folder.path() + "/out", {}, *this_host(), context).run(); }},
        {"structures_of", [&] { structures_of(t, context); }},
        {"read_structure", [&] { read_structure(t, "boot", context); }},
        {"compare_structures", [&] { compare_structures(t, t, context); }},
        {"compare_bytes",
         [&] {
           compare_bytes(t, t, {0, 512}, context);
         }},
        {"follow_down",
         [&] { follow_down(t, *content, [](const LayeredExtent&) { return true; }); }}};
    if (t.disks.empty() || !t.disks.back()->bytes) {
      calls.emplace_back("Target::disk", [&] { t.disk(); });
#ifdef LANTERN_MOUNT
      calls.emplace_back("mount_disk",
                         [&] { mount_disk(t, folder.path(), {}, Session({}, context)); });
#endif
    }
    expect_errors(name, calls);
    EXPECT_NO_THROW(bottom_sources(t)) << name;
  }
}

TEST(PartialTargets, PartsOfThemAreErrorsOrTellNothing) {
  const Context context;
  EXPECT_FALSE(choose_volume({}, context).index.has_value());
  EXPECT_EQ(content_of(VolumeLayer()), "");
  EXPECT_EQ(VolumeLayer().required_key(), "");
  EXPECT_TRUE(VolumeLayer().versions().empty());
  expect_errors(
      "an empty volume",
      {{"Session::open_version", [&] { Session({}, context).open_version(VolumeLayer(), "1"); }}});
}

TEST(PartialTargets, EmptySourcesAreErrors) {
  const kit::Folder folder;
  const Context context;
  const auto memory = Scratch::in_memory(0);
  const SourcePtr none;
  expect_errors(
      "no source",
      {{"make_window",
        [&] {
          make_window(none, {0, 1});
        }},
       {"make_cached", [&] { make_cached(none, context); }},
       {"make_joined",
        [&] {
          make_joined({{ExtentKind::direct, 1, none, 0}});
        }},
       {"FailingSource", [&] { FailingSource(none, {}, [](auto) {}); }},
       {"LaidWrites::over", [&] { LaidWrites::of(*memory).over("station.img", none); }},
       {"LaidWrites::write to what was not opened",
        [&] { LaidWrites::of(*memory).write("station.img", 0, std::vector<std::byte>(1), false); }},
       {"open_split_image",
        [&] {
          open_split_image("a.001", none, *host_neighbours(folder.path(), context), context);
        }},
       {"open_container", [&] { open_container(none, {}, context); }},
       {"open_file_system", [&] { open_file_system(none, {}, context); }},
       {"Session::open_bytes", [&] { Session({}, context).open_bytes(none, {}, {}); }},
       {"read_volume_table",
        [&] { read_volume_table(none, std::nullopt, known_formats(), context); }},
       {"search_volumes", [&] { search_volumes(none, {}, {}, context); }},
       {"write_image", [&] { write_image(none, folder.path() + "/out.img", {}, context); }},
       {"find_machines",
        [&] { find_machines(nullptr, folder.path(), *this_host(), Session({}, context)); }}});
}

TEST(PartialTargets, EmptyAddressesPlansAndJournalsAreErrors) {
  const kit::Folder folder;
  const Context context;
  const Address none;
  const OpenOptions open;
  expect_errors(
      "no address",
      {{"Session::open_first", [&] { Session(open, context).open_first(none); }},
       {"Session::open", [&] { Session(open, context).open(none); }},
       {"Session::open_disk", [&] { Session(open, context).open_disk(none); }},
       {"Session::open_volume", [&] { Session(open, context).open_volume(none); }},
       {"Session::open_folder", [&] { Session(open, context).open_folder(none); }},
       {"open_file_source", [&] { open_file_source("", context); }},
       {"survey of none", [&] { survey({}, Session(open, context)); }},
       {"survey", [&] { survey({none}, Session(open, context)); }},
       {"plan_repair", [&] { plan_repair(none, {}, Session(open, context)); }},
       {"plan_field",
        [&] { plan_field(none, "mbr.entry1.active", "yes", Session(open, context)); }},
       {"plan_bytes", [&] { plan_bytes(none, 0, {std::byte{1}}, Session(open, context)); }},
       {"read_plan", [] { read_plan(""); }},
       {"steps_of", [] { steps_of(RepairPlan(), {1}); }},
       {"try_repair",
        [&] { try_repair(RepairPlan(), {1}, Session(open, context), Scratch::in_memory(0)); }},
       {"apply_repair", [&] { apply_repair(RepairPlan(), {1}, Session(open, context), {}); }},
       {"repair_into",
        [&] {
          repair_into(RepairPlan(), {1}, folder.path() + "/a.qcow2", Session(open, context));
        }},
       {"undo_repair", [&] { undo_repair("", {}, context); }},
       {"finish_repair", [&] { finish_repair("", {}, context); }},
       {"open_medium", [] { open_medium(""); }},
       {"Address::parse", [] { Address::parse("", [](const std::string&) { return false; }); }},
       {"Scratch::in_file", [] { Scratch::in_file("", 0); }}});
#ifdef LANTERN_MOUNT
  expect_errors("no folder", {{"unmount_folder", [] { unmount_folder(""); }}});
#endif
  // Those that answer of an empty one say nothing of it, and do not throw.
  EXPECT_TRUE(certain_fixes(RepairPlan()).empty());
  EXPECT_TRUE(first_choice(RepairPlan()).empty());
  EXPECT_TRUE(all_together(RepairPlan()).empty());
  EXPECT_EQ(disks_of(none, context), std::vector<Address>{none});
  EXPECT_EQ(resolved(none), none);
  EXPECT_EQ(why_destination_is_unsafe(*this_host(), "", folder.path()), "");
  EXPECT_FALSE(this_host()->file("").has_value());
  std::ostringstream text;
  JsonWriter json(text);
  write_json(json, RepairPlan());
  EXPECT_TRUE(throws_error([&] { read_plan(text.str()); }));
}

}  // namespace
}  // namespace lantern
