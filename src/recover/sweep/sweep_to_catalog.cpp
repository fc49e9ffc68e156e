#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <filesystem>

#include "catalog/catalog.h"
#include "catalog/finds.h"
#include "contents/kinds.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "lantern/sources.h"
#include "lantern/sweep.h"
#include "lantern/text.h"
#include "recover/content/find_files.h"
#include "recover/content/join_files.h"
#include "recover/sweep/catalog_pass.h"
#include "recover/sweep/finders/all_finders.h"
#include "recover/sweep/volume_lister.h"
#include "recover/sweep/what_to_read.h"

namespace lantern {
namespace {

// What is looked at as one never lies across this (BlockFinder, Pieces).
constexpr std::uint64_t kPartUnit = 1u << 20;
// In what a sweep looks for: it is one of a part, and not to be gone on with as another.
constexpr std::string_view kPartWords = "; a part";

// Tells how far it is and what was found so far, ten times a second.
class StateTeller final : public Progress {
 public:
  StateTeller(const SweepOptions& options, SweepState state, std::vector<CatalogFinder*> finders,
              const DiskMap& map)
      : options_(options),
        state_(std::move(state)),
        from_(state_.swept_to),
        finders_(std::move(finders)),
        map_(map) {}

  void update(std::uint64_t done, std::uint64_t /*total*/, std::string_view /*what*/) override {
    const auto now = std::chrono::steady_clock::now();
    if (now - told_ < std::chrono::milliseconds(100) && done < state_.range.end()) return;
    told_ = now;
    state_.swept_to = done;
    state_.swept_bytes = done - from_;
    state_.unreadable_bytes = map_.unreadable_bytes();
    state_.map = map_.text(done);
    state_.found.clear();
    for (const CatalogFinder* const finder : finders_)
      for (const CatalogFinder::Count& count : finder->counts())
        if (count.count > 0) state_.found.push_back({std::string(count.kind), count.count});
    options_.on_state(state_);
  }

 private:
  const SweepOptions& options_;
  SweepState state_;
  std::uint64_t from_;
  std::vector<CatalogFinder*> finders_;
  const DiskMap& map_;
  std::chrono::steady_clock::time_point told_{};
};

class Job {
 public:
  Job(const DiskLayer& disk, const SweepOptions& options, const Session& session,
      const Context& context)
      : disk_(disk), options_(options), session_(session), context_(context) {}

  SweepSummary merge(const std::vector<std::string>& parts) {
    open_merged(parts);
    return finish();
  }

  SweepSummary run() {
    open_catalog();
    return finish();
  }

 private:
  SweepSummary finish() {
    if (!options_.since.empty() && catalog_->fact("since").empty()) take_over_earlier();
    const ContentFinder::Means means = means_of();
    auto finders = std::make_unique<Finders>(means);
    const Range range = catalog_->facts().range;
    summary_.swept_to = catalog_->swept_to();
    bool knows_all = false;
    if (catalog_->fact("state") == "sweeping") {
      if (!sweep_on(*finders, range)) return summary_;
      // What was taken over lies behind what was read, too: all is asked of the catalog again.
      knows_all = options_.since.empty();
      if (!knows_all) finders = std::make_unique<Finders>(means);
    }
    if (options_.part) return finish_part();
    if (catalog_->fact("state") == "reading") {
      if (!knows_all)
        for (CatalogFinder* const finder : finders->of(options_.kinds))
          finder->load(catalog_->database(), range.end());
      for (const CatalogFinder* const finder : finders->of(options_.kinds))
        if (finder->capped()) {
          context_.report(FindingCode::sweep_capped, Severity::warning, {},
                          "more structures were met than are kept",
                          "sweep a part of the disk by itself with --range");
          break;
        }
      report_unreadable();
      list_volumes(disk_, *catalog_, *finders, options_, session_, context_);
    }
    if (!catalog_->is_done()) {
      find_files(disk_.bytes, *catalog_, signatures_, options_, context_);
      join_files(disk_.bytes, *catalog_, signatures_, options_, context_);
      catalog_->begin();
      close_finds(*catalog_);
      catalog_->set_fact("state", "done");
      catalog_->commit();
    }
    tell_volumes();
    tell_content();
    tell_structures();
    summary_.done = true;
    return summary_;
  }

  // Of a part, what stands by itself.
  SweepSummary finish_part() {
    if (catalog_->fact("state") != "part") {
      find_files(disk_.bytes, *catalog_, signatures_, options_, context_);
      catalog_->set_fact("state", "part");
    }
    summary_.done = true;
    summary_.part = true;
    return summary_;
  }

  // The parts must have been swept alike, and leave out nothing between them.
  void open_merged(const std::vector<std::string>& parts) {
    struct Part {
      std::string path;
      CatalogFacts facts;
    };
    std::vector<Part> all;
    for (const std::string& path : parts) {
      const auto part = Catalog::open(path, Database::How::read);
      all.push_back({path, part->facts()});
      if (part->fact("state") != "part")
        throw Error(ErrorCode::usage, path, std::nullopt, "is no finished part of a sweep",
                    "run its sweep again, with --part: it goes on");
      if (compare(all.back().facts.identity, identify(*disk_.bytes)) != IdentityMatch::same)
        throw Error(ErrorCode::refused, path, std::nullopt,
                    "is of another disk, or the disk has changed since", "leave it out");
      if (all.back().facts.what != all.front().facts.what)
        throw Error(ErrorCode::usage, path, std::nullopt,
                    fmt::format("was swept with other options than {}", all.front().path),
                    "sweep all parts alike");
    }
    std::sort(all.begin(), all.end(), [](const Part& a, const Part& b) {
      return a.facts.range.offset < b.facts.range.offset;
    });
    std::uint64_t end = 0;
    const auto reach = [&](std::uint64_t next) {
      if (next > end)
        throw Error(ErrorCode::usage, options_.catalog, std::nullopt,
                    fmt::format("bytes {} to {} of the disk are in no part", end, next),
                    fmt::format("sweep them with --part --range {}..{}", end, next));
    };
    for (const Part& part : all) {
      reach(part.facts.range.offset);
      end = std::max(end, part.facts.range.end());
    }
    reach(disk_.bytes->size());
    CatalogFacts facts = all.front().facts;
    facts.range = {0, end};
    facts.what = facts.what.substr(0, facts.what.rfind(kPartWords));
    const auto merging = [&] { return catalog_->fact("state") == "merging"; };
    std::error_code error;
    if (Catalog::is_catalog(options_.catalog)) {
      catalog_ = Catalog::open(options_.catalog, Database::How::write);
      if (catalog_->facts().what != facts.what || !(catalog_->facts().range == facts.range) ||
          catalog_->fact("merged").empty())
        throw Error(ErrorCode::refused, options_.catalog, std::nullopt,
                    "exists and is no merge of these", "name another file with -o");
      summary_.resumed = true;
    } else if (std::filesystem::exists(options_.catalog, error)) {
      throw Error(ErrorCode::refused, options_.catalog, std::nullopt, "exists and is no catalog",
                  "name another file with -o");
    } else {
      catalog_ = Catalog::create(options_.catalog, facts);
      catalog_->set_fact("merged", std::to_string(all.size()));
      catalog_->set_fact("state", "merging");
    }
    if (!merging()) return;
    for (const Part& part : all) catalog_->take_part(part.path);
    CatalogPass(*catalog_, {}).join_blocks();
    catalog_->set_fact("swept_to", std::to_string(facts.range.end()));
    catalog_->set_fact("state", "reading");
  }

  void take_over_earlier() {
    const auto earlier = Catalog::open(options_.since, Database::How::read);
    const IdentityMatch match = compare(earlier->facts().identity, catalog_->facts().identity);
    if (match == IdentityMatch::other)
      throw Error(ErrorCode::refused, options_.since, std::nullopt,
                  fmt::format("is of another disk: it was made of {}", earlier->facts().disk),
                  "leave out --since");
    if (match == IdentityMatch::changed)
      context_.at(options_.since)
          .report(FindingCode::catalog_disk_changed, Severity::warning, {},
                  "the disk has changed since this catalog was made",
                  "what was found then is taken over as it was");
    catalog_->take_over(options_.since);
  }

  ContentFinder::Means means_of() {
    constexpr std::uint64_t kMaxText = 4u << 20;
    signatures_ = Signatures::built_in();
    for (const std::string& path : options_.signatures) {
      const SourcePtr file = open_file_source(path, context_);
      if (file->size() > kMaxText)
        throw Error(ErrorCode::usage, path, std::nullopt, "is too large for a list of signatures",
                    "docs/formats/signatures.md describes the form");
      Bytes text(static_cast<std::size_t>(file->size()));
      file->read(0, text);
      signatures_.add(text_of(text), path);
    }
    for (const SignatureKind& kind : signatures_.kinds())
      if (!kind.check.empty() && kinds::check_by_name(kind.check) == nullptr)
        throw Error(ErrorCode::usage, kind.name, std::nullopt,
                    fmt::format("there is no check \"{}\"", kind.check),
                    "docs/formats/signatures.md lists them");
    const auto marks = std::make_shared<Marks>(signatures_);
    return {marks, options_.unaligned ? std::make_shared<MarksAnywhere>(marks) : nullptr};
  }

  void tell_content() {
    for (const FindCount& each : count_finds(*catalog_))
      summary_.content.push_back(
          {each.kind, std::string(to_string(each.grade)), each.count, each.copies, each.bytes});
  }

  // False: it was stopped.
  bool sweep_on(Finders& finders, Range range) {
    const std::vector<CatalogFinder*> chosen = finders.of(options_.kinds);
    CatalogPass pass(*catalog_, chosen);
    std::vector<Finder*> all(chosen.begin(), chosen.end());
    all.push_back(&pass);
    Context own = context_;
    if (options_.on_state) {
      SweepState state;
      state.range = range;
      state.swept_to = summary_.swept_to;
      own.progress = std::make_shared<StateTeller>(options_, state, chosen, pass.map());
    }
    SourcePtr disk = disk_.bytes;
    if (options_.free_space_only) disk = without(disk, in_use_of(disk_, context_));
    if (!options_.since.empty()) disk = without(disk, read_for(options_.since));
    const Swept swept =
        sweep(*disk, {summary_.swept_to, range.end() - summary_.swept_to}, all, own);
    pass.mark(swept.stopped_at);
    summary_.swept_to = catalog_->swept_to();
    summary_.read_bytes = swept.read_bytes;
    if (swept.stopped_at < range.end()) return false;
    if (own.progress) own.progress->update(range.end(), range.end(), {});
    pass.join_blocks();
    catalog_->set_fact("state", "reading");
    return true;
  }

  void report_unreadable() const {
    constexpr std::uint64_t kMaxReported = 1000;
    Statement rows = catalog_->database().prepare(
        "SELECT offset, length FROM block WHERE kind = 'unreadable' ORDER BY offset LIMIT ?");
    rows.bind(1, kMaxReported);
    const Context own = context_.at(disk_.address.print());
    while (rows.step())
      own.report(FindingCode::source_unreadable, Severity::damage, {rows.number(0), rows.number(1)},
                 fmt::format("{} could not be read", human_size(rows.number(1))),
                 "what lies there was not looked at; a sweep --since this catalog reads it "
                 "once more");
  }

  std::string what() const {
    std::string text;
    for (const std::string_view kind : kSweepKinds)
      if (options_.kinds.empty() ||
          std::find(options_.kinds.begin(), options_.kinds.end(), kind) != options_.kinds.end())
        text += fmt::format("{}{}", text.empty() ? "" : ", ", kind);
    if (options_.free_space_only) text += "; free space only";
    if (options_.unaligned) text += "; at any byte";
    if (options_.part) text += kPartWords;
    for (const std::string& path : options_.signatures) text += "; with " + path;
    if (!options_.since.empty()) text += "; since " + options_.since;
    return text;
  }

  void open_catalog() {
    CatalogFacts facts;
    std::error_code error;
    Address address = disk_.address;
    if (!address.first.starts_with("disk:"))
      address.first = std::filesystem::absolute(address.first, error).lexically_normal().string();
    facts.disk = address.print();
    facts.identity = identify(*disk_.bytes);
    facts.range = options_.range.length == 0 ? Range{0, disk_.bytes->size()}
                                             : intersect(options_.range, {0, disk_.bytes->size()});
    if (options_.part) {
      const std::uint64_t begin = facts.range.offset / kPartUnit * kPartUnit;
      const std::uint64_t end = (facts.range.end() + kPartUnit - 1) / kPartUnit * kPartUnit;
      facts.range = intersect({begin, end - begin}, {0, disk_.bytes->size()});
    }
    facts.what = what();
    // One that was killed while it was made is empty, or taken back to that when it is opened.
    const bool unmade = !std::filesystem::exists(options_.catalog, error) ||
                        std::filesystem::file_size(options_.catalog, error) == 0 ||
                        std::filesystem::exists(options_.catalog + "-journal", error);
    if (unmade && !Catalog::is_catalog(options_.catalog)) {
      catalog_ = Catalog::create(options_.catalog, facts);
      return;
    }
    if (!Catalog::is_catalog(options_.catalog))
      throw Error(ErrorCode::refused, options_.catalog, std::nullopt, "exists and is no catalog",
                  "name another file with -o");
    catalog_ = Catalog::open(options_.catalog, Database::How::write);
    const CatalogFacts there = catalog_->facts();
    if (compare(there.identity, facts.identity) != IdentityMatch::same)
      throw Error(
          ErrorCode::refused, options_.catalog, std::nullopt,
          fmt::format("is of another disk, or the disk has changed since: it was made of {}",
                      there.disk),
          "name another file with -o");
    if (there.what != facts.what || !(there.range == facts.range))
      throw Error(ErrorCode::refused, options_.catalog, std::nullopt,
                  "is of a sweep with other options", "name another file with -o");
    summary_.resumed = true;
  }

  void tell_structures() {
    for (CatalogStructure& each : catalog_->structures())
      summary_.structures.push_back({std::move(each.kind), std::move(each.format),
                                     std::move(each.label), each.range, std::move(each.address),
                                     std::move(each.evidence)});
  }

  void tell_volumes() {
    Statement counts = catalog_->database().prepare(
        "SELECT count(*) FILTER (WHERE state = 'active' AND kind <> 'folder'),"
        " count(*) FILTER (WHERE state <> 'active'),"
        " count(*) FILTER (WHERE intact = 1 AND kind <> 'folder') FROM entry WHERE volume = ?");
    for (const CatalogVolume& volume : catalog_->volumes()) {
      counts.bind(1, volume.key).step();
      SweepSummary::Volume told;
      told.address = address_of(options_.catalog, volume);
      told.lost = volume.lost != 0;
      told.headless = !volume.opened_by.as.empty();
      told.type = volume.facts.type;
      told.label = volume.facts.label;
      told.range = volume.range;
      told.files = counts.number(0);
      told.deleted = counts.number(1);
      told.intact = counts.number(2);
      told.evidence = volume.evidence;
      summary_.volumes.push_back(std::move(told));
      counts.reset();
    }
  }

  const DiskLayer& disk_;
  const SweepOptions& options_;
  const Session& session_;
  const Context& context_;
  std::shared_ptr<Catalog> catalog_;
  Signatures signatures_;
  SweepSummary summary_;
};

}  // namespace

Range part_of_disk(std::uint64_t disk_bytes, std::uint64_t number, std::uint64_t count) {
  const std::uint64_t units = (disk_bytes + kPartUnit - 1) / kPartUnit;
  const auto begin = [&](std::uint64_t i) {
    // Without a product that could be too large.
    return std::min((units / count * i + units % count * i / count) * kPartUnit, disk_bytes);
  };
  return {begin(number - 1), begin(number) - begin(number - 1)};
}

std::string disk_of_catalog(const std::string& path) {
  return Catalog::open(path, Database::How::read)->facts().disk;
}

SweepSummary merge_catalogs(const DiskLayer& disk, const std::vector<std::string>& parts,
                            const SweepOptions& options, const Session& session,
                            const Context& context) {
  return Job(disk, options, session, context).merge(parts);
}

std::vector<std::string_view> sweep_kinds() {
  return {kSweepKinds.begin(), kSweepKinds.end()};
}

bool is_catalog(const std::string& path) {
  return Catalog::is_catalog(path);
}

SweepSummary sweep_to_catalog(const DiskLayer& disk, const SweepOptions& options,
                              const Session& session, const Context& context) {
  return Job(disk, options, session, context).run();
}

}  // namespace lantern
