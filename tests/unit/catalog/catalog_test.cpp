// The catalog: what is written comes back, in every order of a walk; what was edited is met calmly.
#include "catalog/catalog.h"

#include <gtest/gtest.h>

#include <filesystem>

#include "catalog/entries.h"
#include "filesystem/named_walk.h"
#include "kit/bytes.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Folder;

CatalogFacts some_facts() {
  CatalogFacts facts;
  facts.disk = "/cases/tower.img";
  facts.identity = {1u << 20, 512, "ab12"};
  facts.range = {0, 1u << 20};
  facts.what = "volumes";
  return facts;
}

Entry entry_of(std::vector<std::string> path, EntryState state = EntryState::active,
               EntryKind kind = EntryKind::file) {
  Entry entry;
  entry.path = std::move(path);
  entry.id = "id " + entry.path.back();
  entry.state = state;
  entry.kind = kind;
  return entry;
}

class CatalogTest : public ::testing::Test {
 protected:
  CatalogTest() : path_(folder_ / "tower.catalog") {
    catalog_ = Catalog::create(path_, some_facts());
    volume_.lost = 1;
    volume_.range = {4096, 1u << 19};
    volume_.facts = {"ntfs", "ntfs", "SKERROW", "1A2B", 1u << 19, 4096, 128};
    volume_.opened_by.as = "ntfs";
    volume_.opened_by.geometry = {{"cluster", 4096}, {"table", 0}};
    volume_.opened_by.table_pieces = {{0, 8192, 1024}, {4096, 65536, 2048}};
    volume_.evidence = "records of its file table";
    catalog_->add_volume(volume_);
  }

  void add(const std::vector<Entry>& entries) {
    EntryWriter writer(*catalog_, volume_.key);
    for (const Entry& entry : entries) writer.add(entry, {});
    catalog_->index_entries();
  }

  std::shared_ptr<const FileSystem> files() {
    return open_catalog_volume(catalog_, volume_, []() -> std::shared_ptr<const FileSystem> {
      throw Error(ErrorCode::cannot_open, "tower.img", std::nullopt, "is not there");
    });
  }

  std::vector<std::string> walked(const WalkOptions& options) {
    std::vector<std::string> paths;
    files()->walk(options, [&](const Entry& entry) {
      std::string path;
      for (const std::string& name : entry.path) path += "/" + name;
      paths.push_back(path);
      return WalkStep::go_on;
    });
    return paths;
  }

  Folder folder_;
  std::string path_;
  std::shared_ptr<Catalog> catalog_;
  CatalogVolume volume_;
};

using Paths = std::vector<std::string>;

TEST_F(CatalogTest, FactsAndVolumesComeBack) {
  catalog_.reset();
  EXPECT_TRUE(Catalog::is_catalog(path_));
  const auto again = Catalog::open(path_, Database::How::read);
  EXPECT_EQ(again->facts().disk, "/cases/tower.img");
  EXPECT_EQ(again->facts().identity.samples_sha256, "ab12");
  EXPECT_EQ(again->swept_to(), 0u);
  EXPECT_FALSE(again->is_done());
  const auto volumes = again->volumes();
  ASSERT_EQ(volumes.size(), 1u);
  EXPECT_EQ(volumes[0].lost, 1u);
  EXPECT_EQ(volumes[0].range, (Range{4096, 1u << 19}));
  EXPECT_EQ(volumes[0].facts.label, "SKERROW");
  EXPECT_EQ(volumes[0].opened_by.geometry, volume_.opened_by.geometry);
  ASSERT_EQ(volumes[0].opened_by.table_pieces.size(), 2u);
  EXPECT_EQ(volumes[0].opened_by.table_pieces[1].volume_offset, 65536u);
}

TEST_F(CatalogTest, AnEntryComesBackWhole) {
  Entry entry = entry_of({"Nest counts", "ledge\xFF 4.csv"}, EntryState::deleted);
  entry.number = 77;
  entry.parent = "5-1";
  entry.size_bytes = 123456789012;
  entry.intact = 0.25;
  entry.modified = Timestamp{-5, 100, 2'000'000'000, true};
  entry.created = Timestamp{1'700'000'000, 999'999'900, 100, false};
  entry.owner = Ownership{1000, 100, 06755};
  entry.links = 3;
  entry.security_id = 9;
  entry.attributes = "rh";
  entry.original_path = "C:\\counts";
  entry.evidence = "by its record";
  add({entry});
  const auto back = files()->entry("id ledge\xFF 4.csv");
  ASSERT_TRUE(back);
  EXPECT_EQ(back->path, entry.path);
  EXPECT_EQ(back->number, 77u);
  EXPECT_EQ(back->parent, "5-1");
  EXPECT_EQ(back->state, EntryState::deleted);
  EXPECT_EQ(back->size_bytes, entry.size_bytes);
  EXPECT_EQ(back->intact, entry.intact);
  EXPECT_EQ(back->modified, entry.modified);
  EXPECT_EQ(back->created, entry.created);
  EXPECT_FALSE(back->accessed);
  EXPECT_EQ(back->owner->mode, 06755u);
  EXPECT_EQ(back->links, 3u);
  EXPECT_EQ(back->security_id, 9u);
  EXPECT_EQ(back->attributes, "rh");
  EXPECT_EQ(back->original_path, entry.original_path);
  EXPECT_EQ(back->evidence, entry.evidence);
}

TEST_F(CatalogTest, WalksInEveryOrder) {
  add({entry_of({"b"}, EntryState::active, EntryKind::folder), entry_of({"b", "z"}),
       entry_of({"b", "a"}, EntryState::deleted), entry_of({"b 2"}),
       entry_of({"a"}, EntryState::active, EntryKind::folder), entry_of({"a", "x"})});
  EXPECT_EQ(walked({}), (Paths{"/b", "/b/z", "/b 2", "/a", "/a/x"}));
  WalkOptions by_path;
  by_path.order = WalkOrder::by_path;
  by_path.deleted = true;
  // A folder before what is in it, and that before a name that begins like the folder's.
  EXPECT_EQ(walked(by_path), (Paths{"/a", "/a/x", "/b", "/b/a", "/b/z", "/b 2"}));
  by_path.order = WalkOrder::by_folder;
  EXPECT_EQ(walked(by_path), (Paths{"/b 2", "/a", "/a/x", "/b", "/b/a", "/b/z"}));
  WalkOptions under;
  under.under = {"b"};
  under.deleted = true;
  EXPECT_EQ(walked(under), (Paths{"/b/z", "/b/a"}));
  WalkOptions deleted;
  deleted.active = false;
  deleted.deleted = true;
  EXPECT_EQ(walked(deleted), (Paths{"/b/a"}));
  WalkOptions first_level;
  first_level.max_depth = 1;
  EXPECT_EQ(walked(first_level), (Paths{"/b", "/b 2", "/a"}));
}

TEST_F(CatalogTest, NamesAreFoundByHowTheyBegin) {
  add({entry_of({"Keeper"}, EntryState::active, EntryKind::folder),
       entry_of({"Keeper", "Log 2.txt"}), entry_of({"log 1.txt"}), entry_of({"catalog"}),
       entry_of({"LOG"}, EntryState::deleted)});
  const auto named = std::dynamic_pointer_cast<const NamedWalk>(files());
  ASSERT_TRUE(named);
  const auto met = [&](const std::string& pattern, const WalkOptions& options) {
    Paths seen;
    named->walk_named(pattern, options, [&](const Entry& entry) {
      seen.push_back(entry.path.back());
      return WalkStep::go_on;
    });
    return seen;
  };
  WalkOptions options;
  EXPECT_EQ(met("lOG*", options), (Paths{"Log 2.txt", "log 1.txt"}));
  options.deleted = true;
  options.order = WalkOrder::by_path;
  EXPECT_EQ(met("log*", options), (Paths{"Log 2.txt", "LOG", "log 1.txt"}));
  EXPECT_EQ(met("LOG", options), (Paths{"LOG"}));
  EXPECT_EQ(met("*.TXT", options), (Paths{"Log 2.txt", "log 1.txt"}));
  options.under = {"Keeper"};
  EXPECT_EQ(met("log*", options), (Paths{"Log 2.txt"}));
  EXPECT_TRUE(met("log 3*", options).empty());
}

TEST_F(CatalogTest, SkipsAFolderAndFindsInAnyCase) {
  add({entry_of({"Keeper"}, EntryState::active, EntryKind::folder), entry_of({"Keeper", "Log.txt"}),
       entry_of({"Stores.txt"})});
  Paths seen;
  files()->walk({}, [&](const Entry& entry) {
    seen.push_back(entry.path.back());
    return WalkStep::skip_folder;
  });
  EXPECT_EQ(seen, (Paths{"Keeper", "Stores.txt"}));
  EXPECT_EQ(files()->find({"keeper", "LOG.TXT"}).size(), 1u);
  EXPECT_TRUE(files()->find({"keeper", "none"}).empty());
}

TEST_F(CatalogTest, ContentsNeedTheDisk) {
  add({entry_of({"Stores.txt"})});
  const auto entry = files()->find({"Stores.txt"}).front();
  try {
    files()->open(entry);
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::cannot_open);
  }
}

TEST_F(CatalogTest, WhatIsNotCommittedIsNotThere) {
  catalog_->begin();
  catalog_->set_fact("swept_to", "4096");
  catalog_->commit();
  catalog_->begin();
  catalog_->set_fact("swept_to", "8192");
  catalog_.reset();  // as after a kill
  EXPECT_EQ(Catalog::open(path_, Database::How::write)->swept_to(), 4096u);
}

TEST_F(CatalogTest, EditedOnesAreMetCalmly) {
  Database& database = catalog_->database();
  database.run("UPDATE volume SET figures = '=,==,x', table_pieces = '1,2:3,:::,9:8:7:6'");
  EXPECT_EQ(catalog_->volumes().size(), 1u);
  database.run(
      "INSERT INTO entry VALUES(1, 0, '', -1, '', x'', 0, 'none', 'none', -1, 'x', 'x', '', '.', "
      "'1./', '5', 'x', -1, 'x', -1, '', 9, x'', '', x'')");
  EXPECT_EQ(walked({}).size(), 0u);
  WalkOptions all;
  all.deleted = true;
  EXPECT_EQ(walked(all).size(), 1u);
  catalog_.reset();
  std::filesystem::resize_file(path_, 5000);
  EXPECT_TRUE(Catalog::is_catalog(path_));
  EXPECT_THROW(
      {
        const auto cut = Catalog::open(path_, Database::How::read);
        cut->facts();
        cut->volumes();
      },
      Error);
  std::filesystem::resize_file(path_, 50);
  EXPECT_FALSE(Catalog::is_catalog(path_));
}

TEST_F(CatalogTest, AnotherVersionIsRefused) {
  catalog_->database().run("PRAGMA user_version = 2");
  catalog_.reset();
  EXPECT_THROW(Catalog::open(path_, Database::How::read), Error);
}

}  // namespace
}  // namespace lantern
