#include "nest/opening/file_places.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/kinds/content_kind.h"
#include "lantern/error.h"
#include "lantern/file_system.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "lantern/volume_table.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxWalked = 200'000;   // of a volume
constexpr std::uint64_t kMaxTests = 8'000'000;  // of a piece at a place
constexpr std::size_t kMaxEdges = 48;           // of a place: more say no more
constexpr std::size_t kLooked = 64;             // bytes at an edge

// Where a file begins or ends.
struct Edge {
  std::uint64_t within = 0;  // bytes of the block
  bool begins = false;
  std::uint64_t slack = 0;                   // of an end: bytes behind it that nothing has
  std::vector<std::string_view> kinds = {};  // of a beginning: what its name says; none: a text

  // A mark of a kind, and many zeros behind something, are hardly there by chance.
  int weight() const {
    constexpr std::uint64_t kManyZeros = 64;
    return (begins ? !kinds.empty() : slack >= kManyZeros) ? 2 : 1;
  }
};

// The disk without a word on which of it has no place: files are asked where they lie, whether that
// can be read or not.
class Unquestioned final : public ByteSource {
 public:
  explicit Unquestioned(SourcePtr disk) : disk_(std::move(disk)) {}
  std::uint64_t size() const override { return disk_->size(); }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    const ReadResult got = disk_->read(offset, out);
    unreadable.insert(unreadable.end(), got.unreadable.begin(), got.unreadable.end());
  }

 private:
  SourcePtr disk_;
};

struct Score {
  int fits = 0, fails = 0;

  int sum() const { return fits - 3 * fails; }
};

class FileEdges {
 public:
  FileEdges(const SourcePtr& known, const std::vector<SourcePtr>& loose, const Context& context)
      : known_(known), loose_(loose), context_(context), unit_(loose.front()->size()) {
    quiet_ = context;
    whole_ = std::make_shared<Unquestioned>(known);
    quiet_.findings = std::make_shared<FindingSink>();
  }

  std::vector<PlaceClaim> run() {
    find_open();
    const VolumeTable table = read_volume_table(known_, std::nullopt, known_formats(), quiet_);
    for (const VolumeRow& row : table.rows) read_volume(intersect(row.range, {0, known_->size()}));
    if (table.rows.empty()) read_volume({0, known_->size()});
    return claim();
  }

 private:
  // Blocks that have no place for anything in the file yet.
  void find_open() {
    known_->extents({0, known_->size()}, [&](const Extent& extent) {
      if (extent.kind != ExtentKind::unreadable) return true;
      const std::uint64_t first = (extent.range.offset + unit_ - 1) / unit_ * unit_;
      for (std::uint64_t at = first; at < extent.range.end(); at += unit_) edges_[at];
      return true;
    });
  }

  void read_volume(Range range) {
    std::shared_ptr<const FileSystem> files;
    try {
      files = open_file_system(make_window(whole_, range), {}, quiet_);
    } catch (const Error& error) {
      if (error.code() == ErrorCode::stopped) throw;
    }
    if (!files) return;
    std::uint64_t seen = 0;
    files->walk({}, [&](const Entry& entry) {
      context_.check_cancelled();
      if (entry.kind == EntryKind::file && entry.size_bytes > 0) read_file(*files, entry, range);
      return ++seen < kMaxWalked ? WalkStep::go_on : WalkStep::stop;
    });
  }

  void read_file(const FileSystem& files, const Entry& entry, Range volume) {
    try {
      files.open(entry).bytes->extents({0, entry.size_bytes}, [&](const Extent& extent) {
        if (extent.kind != ExtentKind::direct) return true;
        const std::uint64_t place = volume.offset + extent.below().offset;
        if (extent.range.offset == 0) add_beginning(place, entry.path.back());
        if (extent.range.end() == entry.size_bytes)
          add_end(place + extent.range.length, files.facts().cluster_bytes, entry.size_bytes);
        return true;
      });
    } catch (const Error& error) {
      if (error.code() != ErrorCode::unsupported) throw;  // encrypted
    }
  }

  std::vector<Edge>* edges_at(std::uint64_t place) {
    const auto block = edges_.find(place / unit_ * unit_);
    if (block == edges_.end() || block->second.size() >= kMaxEdges) return nullptr;
    return &block->second;
  }

  void add_beginning(std::uint64_t place, const std::string& name) {
    const std::size_t dot = name.rfind('.');
    if (dot == std::string::npos) return;
    std::vector<std::string_view> kinds = content_kinds(name.substr(dot + 1));
    if (kinds.empty()) return;
    if (kinds.front() == "txt") kinds.clear();
    if (std::vector<Edge>* const edges = edges_at(place))
      edges->push_back({place % unit_, true, 0, std::move(kinds)});
  }

  void add_end(std::uint64_t end, std::uint64_t cluster_bytes, std::uint64_t size) {
    constexpr std::uint64_t kMinSlack = 16;
    if (cluster_bytes == 0) return;
    const std::uint64_t slack = (cluster_bytes - size % cluster_bytes) % cluster_bytes;
    if (slack < kMinSlack || end % unit_ < kLooked) return;
    if (std::vector<Edge>* const edges = edges_at(end - 1))
      edges->push_back({(end - 1) % unit_ + 1, false, slack, {}});
  }

  // Whether what stands there in a piece is what the edge asks for.
  bool fits(const ByteSource& piece, const Edge& edge) const {
    if (edge.begins) {
      Bytes start(std::min<std::uint64_t>(512, unit_ - edge.within));
      start.resize(piece.read(edge.within, start).length);
      if (edge.kinds.empty())
        return is_text(ByteView(start).first(std::min(start.size(), kLooked)));
      const std::string_view kind = content_kind(start);
      const bool zip = kind == "zip";
      return std::any_of(edge.kinds.begin(), edge.kinds.end(), [&](std::string_view wanted) {
        return wanted == kind ||
               (zip && (wanted == "docx" || wanted == "xlsx" || wanted == "pptx"));
      });
    }
    Bytes around(2 * kLooked);
    around.resize(piece.read(edge.within - kLooked, around).length);
    if (around.size() <= kLooked) return false;
    const ByteView view(around);
    const std::size_t slack = std::min<std::size_t>(
        {kLooked, static_cast<std::size_t>(edge.slack), view.size() - kLooked});
    return all_zero(view.subspan(kLooked, slack)) && !all_zero(view.subspan(kLooked - 8, 8));
  }

  Score score(const ByteSource& piece, const std::vector<Edge>& edges) const {
    constexpr int kHopeless = 2;
    Score score;
    for (const Edge& edge : edges) {
      (fits(piece, edge) ? score.fits : score.fails) += edge.weight();
      if (score.fails >= kHopeless && score.sum() < 0) break;
    }
    return score;
  }

  std::vector<PlaceClaim> claim() {
    constexpr int kMinScore = 5;
    constexpr std::size_t kMinEdges = 2;
    std::vector<PlaceClaim> claims;
    std::uint64_t tests = 0;
    for (const auto& [place, edges] : edges_) {
      if (edges.size() < kMinEdges) continue;
      tests += loose_.size();
      if (tests > kMaxTests) break;
      int best = 0, second = 0;
      std::size_t which = 0;
      for (std::size_t i = 0; i < loose_.size(); ++i) {
        context_.check_cancelled();
        const int sum = score(*loose_[i], edges).sum();
        if (sum > best) {
          second = best;
          best = sum;
          which = i;
        } else {
          second = std::max(second, sum);
        }
      }
      if (best < kMinScore || second * 2 > best) continue;
      claims.push_back(
          {which, place,
           fmt::format("files begin and end in it where their records say, at {} places",
                       edges.size())});
    }
    return claims;
  }

  const SourcePtr& known_;
  const std::vector<SourcePtr>& loose_;
  const Context& context_;
  Context quiet_;
  SourcePtr whole_;
  std::uint64_t unit_;
  std::map<std::uint64_t, std::vector<Edge>> edges_;  // by the place of the block
};

}  // namespace

std::vector<PlaceClaim> file_places(const SourcePtr& known, const std::vector<SourcePtr>& loose,
                                    const Context& context) {
  if (loose.empty()) return {};
  return FileEdges(known, loose, context).run();
}

}  // namespace lantern
