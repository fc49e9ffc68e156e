#include "serve/mount_tree.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <set>

#include "base/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// Names in one folder, some of them twice, and what was deleted from folders that are gone.
class Shelf final : public FileSystem {
 public:
  Shelf(std::vector<std::string> active, std::vector<std::vector<std::string>> deleted)
      : active_(std::move(active)), deleted_(std::move(deleted)) {}

  const FileSystemFacts& facts() const override { return facts_; }
  std::uint64_t used_bytes() const override { return 0; }
  void walk(const WalkOptions& options, const EntryVisitor& visit) const override {
    ++walks;
    for (std::size_t i = 0; options.active && options.under.empty() && i < active_.size(); ++i)
      if (visit(made({active_[i]}, i, EntryState::active)) == WalkStep::stop) return;
    for (std::size_t i = 0; options.deleted && i < deleted_.size(); ++i)
      if (visit(made(deleted_[i], 1000 + i, EntryState::deleted)) == WalkStep::stop) return;
  }
  std::vector<Entry> find(const std::vector<std::string>&, NameRule) const override { return {}; }
  std::optional<Entry> entry(const std::string&) const override { return std::nullopt; }
  Content open(const Entry& entry, const std::string&) const override {
    Bytes bytes;
    for (const char c : entry.id) bytes.push_back(static_cast<std::byte>(c));
    return {make_memory_source(std::move(bytes)), {}, {}, {}};
  }
  void allocation(Range, const AllocationVisitor&) const override {}

  mutable std::size_t walks = 0;

 private:
  static Entry made(std::vector<std::string> path, std::size_t number, EntryState state) {
    Entry entry;
    entry.path = std::move(path);
    entry.id = std::to_string(number);
    entry.size_bytes = entry.id.size();
    entry.state = state;
    if (state == EntryState::deleted) entry.intact = 0.996;
    return entry;
  }

  FileSystemFacts facts_;
  std::vector<std::string> active_;
  std::vector<std::vector<std::string>> deleted_;
};

// A disk of one volume, as a mount shows it.
struct Shown {
  explicit Shown(std::vector<std::string> active,
                 std::vector<std::vector<std::string>> deleted = {})
      : files(std::make_shared<Shelf>(std::move(active), std::move(deleted))),
        live(target_of(files), session, {}),
        tree(target_of(files), live, session) {}

  static Target target_of(const std::shared_ptr<Shelf>& files) {
    const auto disk = std::make_shared<DiskLayer>();
    disk->address.first = "skerrow.img";
    disk->bytes = make_memory_source(Bytes(4096));
    VolumeRow row;
    row.number = 1;
    row.range = {0, 4096};
    disk->volumes.push_back(std::make_shared<VolumeLayer>(
        disk->address.with({Step::Kind::volume, 1, {}, {}}), row, disk->bytes, files));
    Target target;
    target.disks = {disk};
    return target;
  }

  const MountNode& at(const std::vector<std::string>& path) {
    std::uint64_t number = MountTree::kRoot;
    for (const std::string& name : path) {
      const MountNode* const found = tree.look_up(number, name);
      if (found == nullptr) throw std::out_of_range(name);
      number = found->number;
    }
    return tree.node(number);
  }
  std::set<std::string> names(const std::vector<std::string>& path) {
    const MountListingPtr listing = tree.listing(at(path).number);
    std::set<std::string> all;
    for (std::size_t i = 0; i < listing->size(); ++i) all.emplace(listing->item(i).name);
    EXPECT_EQ(all.size(), listing->size()) << "a name is shown twice";
    return all;
  }
  std::string text(const std::vector<std::string>& path) {
    const SourcePtr bytes = tree.content(at(path));
    std::string text(bytes->size(), '\0');
    bytes->read(0, std::as_writable_bytes(std::span(text)));
    return text;
  }

  Session session;
  std::shared_ptr<Shelf> files;
  LiveDisk live;
  MountTree tree;
};

TEST(MountTree, TwoOfOneNameAreBothShown) {
  Shown shown({"log.txt", "log.txt", "log.txt", "..", "a/b"});
  EXPECT_EQ(shown.names({"volumes", "1"}),
            (std::set<std::string>{"log.txt", "log.txt (@1)", "log.txt (@2)", "%2E%2E", "a%2Fb"}));
  EXPECT_EQ(shown.text({"volumes", "1", "log.txt"}), "0");
  EXPECT_EQ(shown.text({"volumes", "1", "log.txt (@2)"}), "2");
  EXPECT_EQ(shown.text({"volumes", "1", "a%2Fb"}), "4");
}

TEST(MountTree, WhatWasDeletedLiesInFoldersThatAreGone) {
  Shown shown({"kept.txt"}, {{"Keeper", "2025", "log.txt"}, {"Keeper", "log.txt"}, {"log.txt"}});
  EXPECT_EQ(shown.names({"deleted", "1"}), (std::set<std::string>{"Keeper", "log.txt"}));
  EXPECT_EQ(shown.names({"deleted", "1", "Keeper"}), (std::set<std::string>{"2025", "log.txt"}));
  EXPECT_EQ(shown.text({"deleted", "1", "Keeper", "2025", "log.txt"}), "1000");
  const MountNode& lost = shown.at({"deleted", "1", "log.txt"});
  EXPECT_EQ(lost.files->attribute(lost.entry, "user.lantern.state"), "deleted");
  EXPECT_EQ(lost.files->attribute(lost.entry, "user.lantern.intact"), "0.99") << "not whole";
  EXPECT_EQ(shown.names({"volumes", "1"}), std::set<std::string>{"kept.txt"});
}

TEST(MountTree, AFolderOfMoreThanIsHeldIsReadInStretches) {
  constexpr std::size_t kCount = 3 * MountTree::kMaxHeld;
  std::vector<std::string> names;
  for (std::size_t i = 0; i < kCount; ++i) names.push_back(fmt::format("leaf-{}", i));
  Shown shown(names);
  const std::uint64_t folder = shown.at({"volumes", "1"}).number;
  const std::size_t before = shown.files->walks;
  for (std::size_t i = 0; i < kCount; ++i) {
    const MountNode* const leaf = shown.tree.look_up(folder, names[i]);
    ASSERT_NE(leaf, nullptr) << i;
    ASSERT_EQ(leaf->entry.id, std::to_string(i));
    shown.tree.forget(leaf->number, 1);
  }
  EXPECT_LE(shown.files->walks - before, 8u) << "a stretch holds half of what may be held";
  const MountNode* const last = shown.tree.look_up(folder, names.back());
  ASSERT_NE(last, nullptr);
  EXPECT_EQ(shown.tree.look_up(folder, "leaf-x"), nullptr);
}

TEST(MountTree, ANodeStaysUntilTheLastLookupIsTakenBack) {
  Shown shown({"log.txt"});
  const std::uint64_t folder = shown.at({"volumes", "1"}).number;
  const std::uint64_t number = shown.tree.look_up(folder, "log.txt")->number;
  EXPECT_EQ(shown.tree.look_up(folder, "log.txt")->number, number);
  shown.tree.forget(number, 1);
  EXPECT_EQ(shown.tree.node(number).name, "log.txt");
  shown.tree.forget(number, 1);
  EXPECT_THROW(shown.tree.node(number), std::out_of_range);
  EXPECT_NE(shown.tree.look_up(folder, "log.txt")->number, number);
}

TEST(MountTree, OfTooManyFilesTheFirstIsToBeForgotten) {
  std::vector<std::string> names;
  for (std::size_t i = 0; i <= MountTree::kMaxFiles; ++i)
    names.push_back(fmt::format("leaf-{}", i));
  Shown shown(names);
  const std::uint64_t folder = shown.at({"volumes", "1"}).number;
  for (const std::string& name : names) {
    EXPECT_FALSE(shown.tree.one_too_many());
    shown.tree.look_up(folder, name);
  }
  const auto one = shown.tree.one_too_many();
  ASSERT_TRUE(one);
  EXPECT_EQ(one->parent, folder);
  EXPECT_EQ(one->name, "leaf-0");
}

}  // namespace
}  // namespace lantern
