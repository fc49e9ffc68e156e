#include "lantern/search.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::FatBuilder;

class Search : public testing::Test {
 protected:
  Search() {
    FatBuilder fat(FatBuilder::Width::fat16);
    fat.folder(0, "Nest counts", {10});
    fat.file(10, "ledge.csv", kit::pattern(600, 1), {11, 12});
    kit::Bytes jpeg = kit::pattern(700, 2);
    kit::put_bytes(jpeg, 0, {std::byte{0xFF}, std::byte{0xD8}, std::byte{0xFF}, std::byte{0xE0}});
    fat.file(0, "gannet.dat", jpeg, {13, 14});
    const std::uint64_t slot = fat.file(0, "lost.txt", kit::bytes_of("gone"), {15});
    fat.remove(slot, {15});
    target_ =
        Session({}, context_).open_volume(Address::parse(folder_.file("card.img", fat.bytes())));
  }
  std::vector<std::string> found(const SearchOptions& options) const {
    std::vector<std::string> names;
    search(target_, options, [&](const Entry& entry) {
      names.push_back(entry.path.back());
      return true;
    });
    return names;
  }
  using Names = std::vector<std::string>;

  kit::Folder folder_;
  Context context_;
  Target target_;
};

TEST_F(Search, ByNamePathAndExpression) {
  SearchOptions options;
  options.patterns = {"*.csv"};
  EXPECT_EQ(found(options), Names{"ledge.csv"});
  options.patterns = {"/Nest counts/*"};
  EXPECT_EQ(found(options), Names{"ledge.csv"});
  options = {};
  options.expression = "/NEST.*[.]CSV$";
  EXPECT_EQ(found(options), Names{"ledge.csv"}) << "any case";
  options.expression = "(";
  EXPECT_THROW(found(options), Error);
}

TEST_F(Search, BySizeOnlyFilesAnswer) {
  SearchOptions options;
  options.least_bytes = 601;
  EXPECT_EQ(found(options), Names{"gannet.dat"});
  options.most_bytes = 650;
  EXPECT_TRUE(found(options).empty());
}

TEST_F(Search, ByContentWhateverItIsCalled) {
  SearchOptions options;
  options.kinds = {"jpg"};
  EXPECT_EQ(found(options), Names{"gannet.dat"});
  options.kinds = {"folder"};
  EXPECT_EQ(found(options), Names{"Nest counts"});
}

TEST_F(Search, DeletedWhenAskedAndAsWholeAsAsked) {
  SearchOptions options;
  options.patterns = {"*ost.txt"};
  EXPECT_TRUE(found(options).empty());
  options.deleted = true;
  EXPECT_EQ(found(options).size(), 1u);
  options.least_intact = 1;
  EXPECT_EQ(found(options).size(), 1u);
}

TEST_F(Search, EndsWhenTheVisitorSaysSo) {
  std::size_t seen = 0;
  search(target_, {}, [&](const Entry&) { return ++seen < 2; });
  EXPECT_EQ(seen, 2u);
}

}  // namespace
}  // namespace lantern
