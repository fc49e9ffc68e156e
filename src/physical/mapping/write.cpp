#include <filesystem>

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/physical/mapping.h"
#include "physical/mapping/descriptor_text.h"
#include "physical/mapping/refusals.h"
#include "recover/image/output_file.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kPiece = 64u << 10;  // bytes; all zeros become a hole

class Writing {
 public:
  Writing(const DiskMap& map, const Session& session) : map_(map), session_(session) {}

  void run() {
    try {
      const SourcePtr disk =
          session_.options().host->open_disk(map_.disk.facts, session_.context());
      for (const MapExtent& extent : map_.extents)
        if (extent.kind == MapExtent::Kind::own_file) copy(*disk, extent);
      const std::string text = descriptor_text(map_);
      write(map_.file, text.size(),
            [&](OutputFile& file) { file.write(0, std::as_bytes(std::span(text))); });
    } catch (...) {
      std::error_code error;
      for (const std::string& file : made_) fs::remove(file, error);
      throw;
    }
  }

 private:
  template <typename Fill>
  void write(const std::string& path, std::uint64_t length, const Fill& fill) {
    refuse_taken(path);
    const std::string passing = path + ".part";
    made_.push_back(passing);
    OutputFile file(passing, false);
    file.set_length(length);
    fill(file);
    file.finish(path);
    made_.back() = path;
  }

  void copy(const ByteSource& disk, const MapExtent& extent) {
    const std::string path = (fs::path(map_.file).parent_path() / extent.file).string();
    write(path, extent.range.length, [&](OutputFile& file) {
      Bytes piece;
      for (const Range& area : extent.copied)
        for (std::uint64_t at = area.offset; at < area.end(); at += kPiece) {
          session_.context().check_cancelled();
          piece.resize(static_cast<std::size_t>(std::min(kPiece, area.end() - at)));
          const ReadResult got = disk.read(at, piece);
          if (!got.unreadable.empty())
            session_.context().report(
                FindingCode::source_unreadable, Severity::damage, got.unreadable.front(),
                "a boot area of the disk cannot be read", "the machine gets zeros there");
          if (!all_zero(piece)) file.write(at - extent.range.offset, piece);
        }
    });
  }

  const DiskMap& map_;
  const Session& session_;
  std::vector<std::string> made_;
};

}  // namespace

void write_map(const DiskMap& map, const Session& session) {
  Writing(map, session).run();
}

}  // namespace lantern
