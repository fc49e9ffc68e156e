// Files by their content: from a disk into a catalog, and back out of it.
#include <gtest/gtest.h>
#include <libdeflate.h>

#include <chrono>
#include <filesystem>
#include <map>

#include "catalog/finds.h"
#include "contents/kinds.h"
#include "kit/bytes.h"
#include "lantern/sources.h"
#include "recover/content/find_check.h"
#include "recover/content/find_files.h"
#include "recover/content/join_files.h"

namespace lantern {
namespace {

using kit::Bytes;

class FindFiles : public testing::Test {
 protected:
  void TearDown() override { std::filesystem::remove(path_); }

  // Every sector of it that has a mark is a candidate.
  std::shared_ptr<Catalog> find(const Bytes& disk, const Signatures& signatures, bool join = true) {
    std::filesystem::remove(path_);
    source_ = make_memory_source(disk);
    CatalogFacts facts;
    facts.disk = "station.img";
    facts.identity = identify(*source_);
    facts.range = {0, source_->size()};
    const auto catalog = Catalog::create(path_, facts);
    catalog->begin();
    Statement add = catalog->database().prepare("INSERT INTO candidate VALUES(?, ?)");
    for (std::uint64_t at = 0; at + kSector <= disk.size(); at += kSector)
      if (const auto* const kind = signatures.marked(ByteView(disk).subspan(at)))
        add.bind(1, at).bind(2, kind->name).run();
    catalog->index_entries();
    catalog->commit();
    find_files(source_, *catalog, signatures, {}, context_);
    if (join) join_files(source_, *catalog, signatures, {}, context_);
    return catalog;
  }

  static std::map<std::uint64_t, CatalogFind> finds(const Catalog& catalog) {
    std::map<std::uint64_t, CatalogFind> all;
    each_find(catalog, "", [&](CatalogFind find) {
      all[find.offset] = find;
      return true;
    });
    return all;
  }

  std::string path_ = testing::TempDir() + "find_files.catalog";
  SourcePtr source_;
  Context context_;
};

void put_be32(Bytes& bytes, std::size_t at, std::uint32_t value) {
  for (std::size_t i = 0; i < 4; ++i) bytes[at + i] = static_cast<std::byte>(value >> (24 - 8 * i));
}

void put_chunk(Bytes& png, const std::string& type, const Bytes& content) {
  const std::size_t at = png.size();
  png.resize(at + 12 + content.size());
  put_be32(png, at, static_cast<std::uint32_t>(content.size()));
  kit::put_text(png, at + 4, type);
  std::copy(content.begin(), content.end(), png.begin() + static_cast<long>(at) + 8);
  put_be32(png, at + 8 + content.size(),
           libdeflate_crc32(0, png.data() + at + 4, content.size() + 4));
}

// Chunks with checksums; what they hold is no picture.
Bytes make_png(std::size_t chunks, unsigned seed) {
  Bytes png;
  png.resize(8);
  kit::put_text(png, 0, "\x89PNG\r\n\x1A\n");
  put_chunk(png, "IHDR", Bytes(13));
  for (std::size_t i = 0; i < chunks; ++i)
    put_chunk(png, "IDAT", kit::pattern(3000, seed + static_cast<unsigned>(i)));
  put_chunk(png, "IEND", {});
  return png;
}

Bytes part(const Bytes& content, std::size_t from, std::size_t to) {
  return {content.begin() + static_cast<long>(from), content.begin() + static_cast<long>(to)};
}

TEST_F(FindFiles, AWholeOneEndsWhereItsOwnEndIs) {
  const Bytes png = make_png(3, 1);
  Bytes disk = kit::pattern(64 << 10, 99);
  kit::put_bytes(disk, 8192, png);
  const auto all = finds(*find(disk, Signatures::built_in()));
  ASSERT_EQ(all.size(), 1u);
  const CatalogFind& found = all.at(8192);
  EXPECT_EQ(found.kind, "png");
  EXPECT_EQ(found.grade, Grade::whole);
  EXPECT_TRUE(found.verified);
  EXPECT_EQ(found.length(), png.size());
}

TEST_F(FindFiles, PiecesAreJoinedWhereTheChecksumsHold) {
  const Bytes png = make_png(9, 1);
  Bytes disk = kit::pattern(256 << 10, 99);
  kit::put_bytes(disk, 8192, part(png, 0, 8192));
  kit::put_bytes(disk, 65536, part(png, 8192, 16384));
  kit::put_bytes(disk, 32768, part(png, 16384, png.size()));  // before the one it follows
  const auto all = finds(*find(disk, Signatures::built_in()));
  ASSERT_EQ(all.size(), 1u);
  const CatalogFind& found = all.at(8192);
  EXPECT_EQ(found.grade, Grade::whole) << found.evidence;
  EXPECT_EQ(found.pieces,
            (std::vector<FindPiece>{{8192, 8192}, {65536, 8192}, {32768, png.size() - 16384}}));
  EXPECT_NE(found.evidence.find("from its byte 8192 on it lies at byte 65536 of the disk"),
            std::string::npos)
      << found.evidence;
}

TEST_F(FindFiles, ACutOneIsSaidToBeAndWhere) {
  const Bytes png = make_png(6, 1);
  Bytes disk(256 << 10);
  kit::put_bytes(disk, 8192, part(png, 0, 12288));
  const auto all = finds(*find(disk, Signatures::built_in()));
  ASSERT_EQ(all.size(), 1u);
  const CatalogFind& found = all.at(8192);
  EXPECT_EQ(found.grade, Grade::cut);
  EXPECT_FALSE(found.verified);
  EXPECT_NE(found.evidence.find("checksum"), std::string::npos) << found.evidence;
}

TEST_F(FindFiles, AThousandCopiesAreOneWithTheirCount) {
  const Bytes png = make_png(1, 1);
  Bytes disk(std::size_t{1000} * 4096);
  for (std::size_t i = 0; i < 1000; ++i) kit::put_bytes(disk, i * 4096, png);
  const auto catalog = find(disk, Signatures::built_in());
  const auto all = finds(*catalog);
  ASSERT_EQ(all.size(), 1u);
  EXPECT_EQ(all.at(0).copies, 1000u);
  EXPECT_EQ(count_finds(*catalog).front().copies, 999u);
}

TEST_F(FindFiles, ADescribedKindIsFoundByItsLengthOrItsEnd) {
  Signatures signatures = Signatures::built_in();
  signatures.add(
      "kind tern\n begins \"TERN\" 01\n length le32 at 8 plus 12\n"
      "kind gull\n begins \"GULL\" 02\n ends \"DONE\" ..\n longest 64K\n",
      "station.txt");
  Bytes disk = kit::pattern(64 << 10, 5);
  kit::put_text(disk, 4096, "TERN\x01");
  kit::put(disk, 4096 + 8, 5000, 4);
  kit::put_text(disk, 16384, "GULL\x02");
  kit::put_text(disk, 16384 + 700, "DONE");
  const auto all = finds(*find(disk, signatures));
  ASSERT_EQ(all.size(), 2u);
  EXPECT_EQ(all.at(4096).length(), 5012u);
  EXPECT_EQ(all.at(4096).grade, Grade::doubtful);
  EXPECT_EQ(all.at(16384).length(), 705u);
}

TEST_F(FindFiles, TheCatalogGivesThemAsFilesByGradeAndKind) {
  const Bytes png = make_png(3, 1);
  Bytes disk = kit::pattern(64 << 10, 99);
  kit::put_bytes(disk, 8192, png);
  const std::shared_ptr<const Catalog> catalog = find(disk, Signatures::built_in());
  const auto files = open_finds(catalog, [&] { return source_; });
  std::vector<std::string> paths;
  std::optional<Entry> file;
  files->walk({}, [&](const Entry& entry) {
    std::string path;
    for (const std::string& name : entry.path) path += "/" + name;
    paths.push_back(path);
    if (entry.kind == EntryKind::file) file = entry;
    return WalkStep::go_on;
  });
  EXPECT_EQ(paths, (std::vector<std::string>{"/whole", "/whole/png", "/whole/png/at 8192.png"}));
  ASSERT_TRUE(file);
  EXPECT_EQ(file->state, EntryState::found);
  EXPECT_EQ(file->intact, 1.0);
  Bytes content(png.size());
  EXPECT_EQ(files->open(*file).bytes->read(0, content).length, png.size());
  EXPECT_EQ(content, png);
  ASSERT_EQ(files->find({"WHOLE", "png", "at 8192.png"}, NameRule::any_case).size(), 1u);
  EXPECT_TRUE(files->find({"whole", "png", "at 8193.png"}).empty());
  EXPECT_EQ(files->entry(file->id)->path, file->path);
}

// Marks of every kind at each sector, and behind them the largest figures there are.
TEST_F(FindFiles, HostileMarksEverywhereAreBoundedWork) {
  Bytes disk(4 << 20, std::byte{0xFF});
  const auto& kinds = Signatures::built_in().kinds();
  std::size_t next = 0;
  for (std::size_t at = 0; at < disk.size(); at += kSector) {
    const SignatureKind& kind = kinds[next++ % kinds.size()];
    if (kind.begins.empty()) continue;
    const Beginning& beginning = kind.begins.front();
    kit::put_text(disk, at + beginning.at, beginning.pattern.bytes);
  }
  const auto start = std::chrono::steady_clock::now();
  for (const auto& [offset, found] : finds(*find(disk, Signatures::built_in(), false))) {
    EXPECT_NE(found.grade, Grade::whole) << found.kind << " at " << offset;
    EXPECT_LE(offset + found.length(), disk.size());
  }
  EXPECT_LT(std::chrono::steady_clock::now() - start, std::chrono::seconds(60));
}

TEST(Checks, EveryCheckThatAKindNamesIsThere) {
  for (const SignatureKind& kind : Signatures::built_in().kinds())
    EXPECT_TRUE(kind.check.empty() || kinds::check_by_name(kind.check) != nullptr) << kind.name;
}

// Of each kind a small file, made by the programs that people make them with.
TEST(Checks, EndsAreFoundWhateverFollows) {
  for (const auto& file : std::filesystem::directory_iterator(LANTERN_CORPUS "/kinds")) {
    const std::string name = file.path().filename().string();
    Bytes bytes = kit::read_file(file.path().string());
    const auto line = static_cast<std::size_t>(
        std::find(bytes.begin(), bytes.end(), std::byte{'\n'}) - bytes.begin());
    SignatureKind kind;
    kind.check = text_of(ByteView(bytes).first(line));
    bytes.erase(bytes.begin(), bytes.begin() + static_cast<long>(line) + 1);
    const std::size_t length = bytes.size();
    if (name == "program_elf" || name == "document_ole" || name == "program_exe") continue;
    for (const std::byte behind : {std::byte{0}, std::byte{0xA7}}) {
      Bytes with = bytes;
      with.resize(length + 20'000, behind);
      if (behind != std::byte{0})
        for (std::size_t i = length; i < with.size(); ++i)
          with[i] = static_cast<std::byte>(i * i * 7919 >> 5);
      // A text ends where no text follows, and a tar where no zeros do.
      if (kind.check == "text" || kind.check == "mail") with[length] = std::byte{1};
      if (kind.check == "tar" && behind == std::byte{0}) continue;
      const auto got =
          follow_content(*make_memory_source(with), kind, ~std::uint64_t{0}, Context());
      ASSERT_TRUE(got) << name;
      EXPECT_TRUE(got->complete) << name << ": " << got->why;
      EXPECT_EQ(got->length, length) << name << ": " << got->why;
    }
  }
}

}  // namespace
}  // namespace lantern
