#include "recover/content/find_files.h"

#include <fmt/format.h>
#include <algorithm>
#include <chrono>
#include <future>

#include "catalog/finds.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "recover/content/find_check.h"
#include "recover/content/find_digest.h"

namespace lantern {
namespace {

constexpr std::size_t kAtOnce = 64;  // candidates
constexpr std::chrono::seconds kBetweenMarks{5};
// What checks may cost (KindReader::spend): so much to begin with, and so much for each byte of the
// disk that is left behind; where that is used up, a little for each.
constexpr std::uint64_t kFirstCheckWork = std::uint64_t{1} << 40;
constexpr std::uint64_t kCheckWorkPerByte = 16;
constexpr std::uint64_t kMinWork = 64u << 10;

bool is_of_text(std::byte b) {
  const auto c = std::to_integer<unsigned>(b);
  return (c >= 0x20 && c < 0x7F) || c == '\n' || c == '\r' || c == '\t';
}

// Names of the formats that are disk images, as SQL has them.
std::string names_of_images() {
  std::string names;
  for (const Format& format : known_formats().formats())
    if (format.open_container != nullptr)
      names += fmt::format("{}'{}'", names.empty() ? "" : ", ", format.name);
  return names;
}

class FileSearch {
 public:
  FileSearch(const SourcePtr& disk, Catalog& catalog, const Signatures& signatures,
             const SweepOptions& options, const Context& context)
      : disk_(disk),
        catalog_(catalog),
        signatures_(signatures),
        options_(options),
        context_(context),
        writer_(catalog),
        owners_(catalog.database().prepare(
            "SELECT e.state, e.intact, x.disk_offset, x.length FROM extent x JOIN entry e ON "
            "e.volume = x.volume AND e.place = x.place WHERE x.disk_offset <= ? ORDER BY "
            "x.disk_offset DESC LIMIT 16")),
        begins_(catalog.database().prepare(
            "SELECT 1 FROM extent x JOIN entry e ON e.volume = x.volume AND e.place = x.place "
            "WHERE x.disk_offset = ? AND x.offset = 0 AND e.size_bytes = ? LIMIT 1")),
        candidates_(catalog.database().prepare(
            "SELECT offset, kind FROM candidate WHERE offset >= ? ORDER BY offset LIMIT ?")),
        hits_(catalog.database().prepare(fmt::format(
            "SELECT offset, format FROM hit WHERE offset >= ? AND format IN ({}) ORDER BY offset "
            "LIMIT ?",
            names_of_images()))),
        merged_(!catalog.fact("merged").empty()) {}

  void run() {
    at_ = catalog_.number_fact("checked_to");
    end_ = catalog_.facts().range.end();
    for (std::vector<Candidate> some = next(); !some.empty(); some = next()) {
      check(some);
      mark(false);
      if (options_.on_checking) options_.on_checking(at_, finds_);
    }
    mark(true);
    if (gave_up_ > 0)
      context_.report(FindingCode::sweep_capped, Severity::warning, {},
                      fmt::format("{} of the files that may begin on the disk were not followed to "
                                  "their ends: too many begin too close to each other",
                                  gave_up_),
                      "sweep a part of the disk by itself with --range");
  }

 private:
  struct Candidate {
    std::uint64_t offset = 0;
    std::string kind;
    bool image = false;
    bool listed = false;  // a volume has it
    std::optional<CatalogFind> find;
    FollowedContent followed;
  };

  // Those behind what was looked at, a few at a time.
  std::vector<Candidate> next() {
    const std::uint64_t from = std::max(at_, inside_end_);
    std::vector<Candidate> some;
    for (Statement* const rows : {&candidates_, &hits_}) {
      rows->reset();
      rows->bind(1, from).bind(2, std::uint64_t{kAtOnce});
      while (rows->step())
        some.push_back({rows->number(0), rows->text(1), rows == &hits_, false, {}, {}});
      rows->reset();
    }
    std::stable_sort(some.begin(), some.end(),
                     [](const Candidate& a, const Candidate& b) { return a.offset < b.offset; });
    some.resize(std::min(some.size(), kAtOnce));
    for (Candidate& candidate : some) {
      candidate.listed = !options_.part && is_of_file(candidate.offset);
      if (!candidate.listed && merged_) candidate.find = checked_find(catalog_, candidate.offset);
      // A catalog of a part may have been edited.
      if (candidate.find && (candidate.offset >= disk_->size() ||
                             candidate.find->length() > disk_->size() - candidate.offset))
        candidate.find.reset();
    }
    return some;
  }

  void check(std::vector<Candidate>& some) {
    const unsigned threads = std::max(
        1u, context_.threads != 0 ? context_.threads : std::thread::hardware_concurrency());
    const std::uint64_t each = std::max(kMinWork, work_left_ / kAtOnce);
    std::vector<std::future<void>> parts;
    for (unsigned t = 0; t < threads; ++t)
      parts.push_back(std::async(std::launch::async, [&, t] {
        for (std::size_t i = t; i < some.size(); i += threads) check_one(some[i], each);
      }));
    for (auto& part : parts) part.get();
    for (Candidate& candidate : some) {
      work_left_ -= std::min(work_left_, candidate.followed.work);
      work_left_ = std::min(
          kFirstCheckWork,
          work_left_ + kCheckWorkPerByte * (candidate.offset - std::min(candidate.offset, at_)));
      at_ = candidate.offset + 1;
      gave_up_ += candidate.followed.gave_up ? 1 : 0;
      if (candidate.offset < inside_end_) continue;
      if (candidate.find)
        take(*candidate.find);
      else if (options_.part && !candidate.image && !candidate.listed)
        drop(candidate.offset);
    }
  }

  // On any of the threads.
  void check_one(Candidate& candidate, std::uint64_t max_work) const {
    context_.check_cancelled();
    if (candidate.offset < inside_end_ || candidate.offset >= disk_->size()) return;
    // What a volume has, and what a sweep of a part of the disk told of.
    if (candidate.listed || candidate.find) return;
    if (candidate.image) {
      const Format* const format = known_formats().find(candidate.kind);
      if (format != nullptr && format->open_container != nullptr)
        candidate.find = check_image_find(disk_, candidate.offset, *format, context_);
      return;
    }
    const SignatureKind* const kind = signatures_.by_name(candidate.kind);
    if (kind == nullptr || (kind->name == "txt" && goes_on(candidate.offset))) return;
    candidate.find =
        check_find(disk_, candidate.offset, *kind, max_work, context_, candidate.followed);
  }

  // Whether a text does not begin here.
  bool goes_on(std::uint64_t offset) const {
    if (offset == 0) return false;
    Bytes before(1);
    disk_->read(offset - 1, before);
    return is_of_text(before[0]);
  }

  void take(CatalogFind& find) {
    // In texts there are texts, in archives their members: those are theirs.
    const SignatureKind* const kind = signatures_.by_name(find.kind);
    const bool holds_others = kind != nullptr && (kind->check == "text" || kind->check == "mail" ||
                                                  kind->check == "tar" || kind->check == "rtf");
    const bool follows_inside = find.grade == Grade::whole || holds_others;
    if (follows_inside) inside_end_ = find.offset + find.length();
    if (!options_.part && is_listed(find)) return;
    begin();
    ++finds_;
    if (options_.part) return writer_.add(find, {});
    const std::string digest = digest_of(*make_window(disk_, {find.offset, find.length()}));
    // What is cut may go on elsewhere, each in its own way.
    const auto first = find.breaks == 0 ? writer_.same(find, digest) : std::nullopt;
    if (first && is_same(*first, find)) {
      writer_.add_copy(*first, find.offset);
      return;
    }
    writer_.add(find, digest);
  }

  // What was looked at and is nothing need not be looked at again when the parts are merged.
  void drop(std::uint64_t offset) {
    begin();
    catalog_.database().prepare("DELETE FROM candidate WHERE offset = ?").bind(1, offset).run();
  }

  // Whether a volume has a file that is there whole at a byte of the disk: by the extents that
  // begin last before it.
  bool is_of_file(std::uint64_t place) {
    constexpr double kNearlyWhole = 0.99;  // of volumes of which no more is said
    bool whole = false;
    owners_.bind(1, place);
    while (!whole && owners_.step())
      whole = place < owners_.number(2) + owners_.number(3) &&
              (owners_.is_null(1) ? owners_.text(0) == "active" : owners_.real(1) >= kNearlyWhole);
    owners_.reset();
    return whole;
  }

  // Whether a volume has it, however much of that is left.
  bool is_listed(const CatalogFind& find) {
    begins_.bind(1, find.offset).bind(2, find.length());
    const bool listed = begins_.step();
    begins_.reset();
    return listed;
  }

  bool is_same(std::uint64_t first, const CatalogFind& find) const {
    constexpr std::uint64_t kPart = 256u << 10;
    if (first == find.offset) return false;
    Bytes a(kPart), b(kPart);
    for (std::uint64_t done = 0; done < find.length();) {
      const auto part = static_cast<std::size_t>(std::min(kPart, find.length() - done));
      disk_->read(first + done, std::span(a).first(part));
      disk_->read(find.offset + done, std::span(b).first(part));
      if (!std::equal(a.begin(), a.begin() + static_cast<std::ptrdiff_t>(part), b.begin()))
        return false;
      done += part;
    }
    return true;
  }

  void begin() {
    if (!std::exchange(writing_, true)) catalog_.begin();
  }

  void mark(bool last) {
    const auto now = std::chrono::steady_clock::now();
    if (!last && now - last_mark_ < kBetweenMarks) return;
    begin();
    // Behind what a find has inside, nothing is asked again.
    at_ = std::max(at_, std::min(inside_end_, end_));
    catalog_.set_fact("checked_to", std::to_string(at_));
    catalog_.commit();
    writing_ = false;
    last_mark_ = now;
  }

  const SourcePtr& disk_;
  Catalog& catalog_;
  const Signatures& signatures_;
  const SweepOptions& options_;
  const Context& context_;
  FindWriter writer_;
  Statement owners_, begins_;
  Statement candidates_, hits_;
  bool merged_;                     // of parts, which tell of their places
  std::uint64_t at_ = 0, end_ = 0;  // bytes of the disk
  std::uint64_t inside_end_ = 0;    // of the last find whose inside is not looked at
  std::uint64_t work_left_ = kFirstCheckWork;
  std::uint64_t finds_ = 0, gave_up_ = 0;
  bool writing_ = false;
  std::chrono::steady_clock::time_point last_mark_ = std::chrono::steady_clock::now();
};

}  // namespace

void find_files(const SourcePtr& disk, Catalog& catalog, const Signatures& signatures,
                const SweepOptions& options, const Context& context) {
  try {
    FileSearch(disk, catalog, signatures, options, context).run();
  } catch (...) {
    catalog.rollback();
    throw;
  }
}

}  // namespace lantern
