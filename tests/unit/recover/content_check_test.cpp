#include "lantern/recover/content_check.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>

#include "kit/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// Small files, made by the programs that people make such files with.
std::map<std::string, std::vector<std::byte>> samples() {
  std::map<std::string, std::vector<std::byte>> all;
  for (const auto& file : std::filesystem::directory_iterator(LANTERN_CORPUS "/content"))
    all[file.path().filename().string()] = kit::read_file(file.path().string());
  return all;
}

ContentCheck check(std::vector<std::byte> bytes) {
  return check_content(*make_memory_source(std::move(bytes)), Context());
}

const std::vector<std::string> kVerified = {"ledge.zip", "streamed.zip", "ledge.gz",
                                            "ledge.bz2", "ledge.xz",     "ledge.zst",
                                            "ledge.png", "horn.flac",    "horn.ogg"};

bool is_verified(const std::string& name) {
  return std::find(kVerified.begin(), kVerified.end(), name) != kVerified.end();
}

TEST(ContentCheck, KnowsWhatIsWhole) {
  const auto all = samples();
  ASSERT_GE(all.size(), 23u);
  for (const auto& [name, bytes] : all) {
    const ContentCheck found = check(bytes);
    EXPECT_EQ(to_string(found.structure), "complete") << name << ": " << found.why;
    EXPECT_EQ(found.verified, is_verified(name)) << name << ": " << found.why;
    EXPECT_EQ(found.length_bytes, bytes.size()) << name;
    EXPECT_FALSE(found.breaks) << name;
  }
}

TEST(ContentCheck, KnowsWhatIsCut) {
  for (const auto& [name, bytes] : samples())
    for (std::size_t length = bytes.size() - 1; length > 600 || length + 40 > bytes.size();
         length -= length > 600 ? 37 : 1) {
      if (name == "log.pdf" && length + 1 == bytes.size()) continue;  // a line's end
      const ContentCheck found = check({bytes.begin(), bytes.begin() + static_cast<long>(length)});
      EXPECT_FALSE(found.verified) << name << " cut at " << length;
      EXPECT_NE(to_string(found.structure), "complete") << name << " cut at " << length;
      if (length == 0) break;
    }
}

TEST(ContentCheck, NoForeignBytesAreVerified) {
  for (const std::string& name : kVerified) {
    const auto bytes = samples().at(name);
    for (std::size_t at = 0; at < bytes.size(); at += 16) {
      std::vector<std::byte> other = bytes;
      for (std::size_t i = at; i < std::min(at + 64, other.size()); ++i)
        other[i] ^= static_cast<std::byte>(0x35 + i % 7);
      EXPECT_FALSE(check(other).verified) << name << " at " << at;
    }
  }
}

TEST(ContentCheck, BytesBehindTheEndAreNotVerified) {
  for (const auto& [name, bytes] : samples()) {
    std::vector<std::byte> longer = bytes;
    longer.resize(longer.size() + 40);
    const ContentCheck found = check(longer);
    EXPECT_FALSE(found.verified) << name;
    EXPECT_LE(found.length_bytes, longer.size()) << name;
  }
}

TEST(ContentCheck, SaysWhereItBreaks) {
  auto bytes = samples().at("ledge.png");
  bytes[bytes.size() / 2] ^= std::byte{1};
  const ContentCheck found = check(bytes);
  EXPECT_EQ(found.structure, StructureState::contradictory);
  ASSERT_TRUE(found.breaks);
  EXPECT_LT(*found.breaks, bytes.size() / 2);
  EXPECT_NE(found.why.find("checksum"), std::string::npos) << found.why;
}

// Ten of its bytes cannot be read.
class Torn final : public ByteSource {
 public:
  explicit Torn(SourcePtr whole) : whole_(std::move(whole)) {}
  std::uint64_t size() const override { return whole_->size(); }

 private:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    whole_->read(offset, out);
    if (offset < 110 && offset + out.size() > 100) unreadable.push_back({100, 10});
  }

  SourcePtr whole_;
};

TEST(ContentCheck, UnreadableBytesAreDamage) {
  const ContentCheck found =
      check_content(Torn(make_memory_source(samples().at("ledge.zip"))), Context());
  EXPECT_FALSE(found.verified);
  EXPECT_EQ(found.structure, StructureState::contradictory);
}

TEST(ContentCheck, KnowsNothingOfOtherBytes) {
  const ContentCheck found = check(std::vector<std::byte>(5000, std::byte{'x'}));
  EXPECT_EQ(found.structure, StructureState::unknown);
  EXPECT_TRUE(found.kind.empty());
  EXPECT_FALSE(found.verified);
}

}  // namespace
}  // namespace lantern
