#include "filesystem/ntfs/volume_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <tuple>

#include "base/checked.h"
#include "filesystem/ntfs/deleted/change_journal.h"
#include "filesystem/ntfs/deleted/index.h"
#include "filesystem/ntfs/deleted/log.h"
#include "lantern/text.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kPiece = 1u << 20;
constexpr std::uint64_t kMaxRecycledBytes = 64u << 10;
constexpr std::uint64_t kMaxAttributeList = 64u << 20;
constexpr std::size_t kMaxClaims = 2'000'000;
constexpr std::uint16_t kMaxNames = 0xFFFE;  // hard links of a file
// A file whose record was changed longer after its making was written to again.
constexpr std::int64_t kOneWriting_ns = 100'000'000;

void make_later(std::optional<Timestamp>& latest, const Timestamp& time) {
  if (!latest || before(*latest, time)) latest = time;
}

std::int64_t nanoseconds_between(const Timestamp& a, const Timestamp& b) {
  // Longer than that is long.
  const std::int64_t seconds = std::clamp<std::int64_t>(b.seconds - a.seconds, -10, 10);
  return seconds * 1'000'000'000 + b.nanoseconds - a.nanoseconds;
}

class Taking {
 public:
  Taking(const Volume& volume, bool with_deleted) : volume_(volume), with_deleted_(with_deleted) {}

  VolumeIndex take() {
    const std::uint64_t count = volume_.records();
    states_.resize(static_cast<std::size_t>(count));
    read_all(count);
    if (with_deleted_) {
      find_unseen_lives();
      gather_traces();
      find_remnants();
    }
    join_folders();
    order();
    if (with_deleted_) gather_lost();
    read_recycle_bin();
    index_.live.settle();
    index_.deleted.settle();
    if (index_.deleted.meets_twice({0, volume_.clusters_there()})) find_last_owners();
    return std::move(index_);
  }

 private:
  struct State {
    std::uint16_t sequence = 0;
    bool base : 1 = false;
    bool in_use : 1 = false;
    bool folder : 1 = false;
    bool reached : 1 = false;
  };

  // A record that goes on with a file's own.
  struct Extension {
    Reference file;
    std::uint64_t number = 0;
    bool in_use = false;
  };

  void read_all(std::uint64_t count) {
    const std::size_t size = volume_.geometry.record_bytes;
    Bytes piece(kPiece);
    for (std::uint64_t number = 0; number < count;) {
      volume_.context.check_cancelled();
      const std::size_t here =
          static_cast<std::size_t>(std::min<std::uint64_t>(piece.size() / size, count - number));
      volume_.table->read(number * size, std::span(piece).first(here * size));
      for (std::size_t i = 0; i < here; ++i, ++number) {
        const ByteView bytes = ByteView(piece).subspan(i * size, size);
        if (!has_text(bytes, 0, "FILE")) {
          if (has_text(bytes, 0, "BAAD") || !all_zero(bytes.first(4))) report_broken(number);
          continue;
        }
        // Not in use: of no interest to a quick look.
        if (!with_deleted_ && (le16(bytes, 0x16) & 1) == 0) continue;
        if (const auto record = parse_record(Bytes(bytes.begin(), bytes.end())))
          take_record(number, *record);
        else
          report_broken(number);
      }
    }
  }

  void report_broken(std::uint64_t number) {
    volume_.context.report(FindingCode::ntfs_record, Severity::damage, volume_.record_place(number),
                           fmt::format("record {} of the file table cannot be read", number),
                           "what it held is not listed");
  }

  void take_record(std::uint64_t number, const Record& record) {
    State& state = states_[static_cast<std::size_t>(number)];
    state.sequence = record.sequence;
    state.base = record.is_base();
    state.in_use = record.in_use;
    state.folder = record.folder;
    if (with_deleted_) claim(record, record.in_use ? index_.live : index_.deleted);
    if (!state.base && with_deleted_) extensions_.push_back({record.base, number, record.in_use});
    if (!state.base || record.attributes.empty()) return;
    const bool parts = record.find(kAttributeList) != nullptr;
    if (record.torn && record.in_use)
      volume_.context.report(
          FindingCode::ntfs_record, Severity::damage, volume_.record_place(number),
          fmt::format("record {} is torn: a part of it is of another writing", number),
          "it is read as it is");
    if (with_deleted_ && number >= kFirstOwnRecord) note_times(record);
    // Names may stand in further records.
    if (parts) return take_names(volume_.file_of(number, record));
    File file;
    file.number = number;
    file.in_use = record.in_use;
    file.folder = record.folder;
    for (const Attribute& attribute : record.attributes)
      if (attribute.type == kFileName && attribute.resident)
        if (auto name = parse_file_name(record.value_of(attribute)))
          file.names.push_back(std::move(*name));
    take_names(file);
  }

  void claim(const Record& record, RangeSet& set) const {
    std::vector<Run> runs;
    for (const Attribute& attribute : record.attributes) {
      if (attribute.resident) continue;
      runs.clear();
      add_runs(slice(record.bytes, static_cast<std::size_t>(attribute.runs.offset),
                     static_cast<std::size_t>(attribute.runs.length)),
               attribute.first_vcn, volume_.geometry.cluster_count(), runs);
      for (const Run& run : runs)
        if (!run.hole) set.add(intersect({run.lcn, run.count}, {0, volume_.clusters_there()}));
    }
  }

  void find_last_owners() {
    std::vector<DeletedClaim> claims;
    for (std::size_t number = 0; number < volume_.records(); ++number) {
      if (number % 1024 == 0) volume_.context.check_cancelled();
      if (states_[number].in_use) continue;
      const auto record = volume_.record(number);
      if (!record) continue;
      RangeSet own;
      claim(*record, own);
      own.settle();
      DeletedClaim of_record;
      own.parts({0, volume_.clusters_there()}, [&](Range part, bool claimed) {
        if (!claimed) return;
        index_.deleted.parts_claimed_twice(part, [&](Range least, bool twice) {
          if (!twice || claims.size() == kMaxClaims) return;
          if (of_record.clusters.empty()) of_record = claim_of(number, *record);
          of_record.clusters = least;
          claims.push_back(of_record);
        });
      });
    }
    // With some left out, none can be told to be the last.
    if (claims.size() < kMaxClaims) index_.last_owners = last_owners(claims);
  }

  // Whose a deleted record's clusters were.
  DeletedClaim claim_of(std::size_t number, const Record& record) const {
    DeletedClaim claim;
    claim.record = static_cast<std::uint32_t>(number);
    std::optional<Record> base;
    if (!record.is_base()) {
      if (!can_be_lost(record.base) || !is_left(record.base)) return claim;
      claim.record = static_cast<std::uint32_t>(record.base.record);
      base = volume_.record(record.base.record);
      if (!base) return claim;
    }
    const Record& own = base ? *base : record;
    const Attribute* const standard = own.find(kStandardInformation);
    if (standard != nullptr && standard->resident && standard->value.length >= 0x18)
      claim.changed = le64(own.value_of(*standard), 0x10);
    return claim;
  }

  void take_names(const File& file) {
    const auto record = static_cast<std::uint32_t>(file.number);
    bool named = false;
    const std::size_t most = std::min<std::size_t>(file.names.size(), kMaxNames);
    for (std::size_t i = 0; i < most; ++i) {
      const FileName& name = file.names[i];
      if (name.text == "$UsnJrnl" && name.folder.record == kExtendRecord)
        journals_.push_back(file.number);
      if (name.space == kShortSpace && has_long_name(file, name)) continue;
      if (file.number == kRootRecord && name.folder.record == kRootRecord) {
        named = true;
        continue;
      }
      Link link;
      link.record = record;
      link.name = static_cast<std::uint16_t>(i);
      link.deleted = !file.in_use;
      link.is_folder = file.folder;
      put_in(link, name.folder);
      index_.links.push_back(link);
      named = true;
    }
    if (named || !with_deleted_ || file.number < kFirstOwnRecord) return;
    Link link;
    link.record = record;
    link.name = kNameless;
    link.deleted = !file.in_use;
    link.orphan = file.in_use;
    link.is_folder = file.folder;
    nameless_.push_back(index_.links.size());
    index_.links.push_back(link);
  }

  static bool has_long_name(const File& file, const FileName& name) {
    return std::any_of(file.names.begin(), file.names.end(), [&](const FileName& other) {
      return other.space != kShortSpace && other.folder == name.folder;
    });
  }

  // The folder's record may not be read yet: whether it still is that folder is seen at the end.
  void put_in(Link& link, const Reference& folder) const {
    if (folder.record >= volume_.records()) return;
    link.folder = static_cast<std::uint32_t>(folder.record);
    link.folder_sequence = folder.sequence;
  }

  void note_times(const Record& record) {
    const Attribute* const standard = record.find(kStandardInformation);
    if (standard == nullptr || !standard->resident || standard->value.length < 0x24) return;
    const ByteView value = record.value_of(*standard);
    const auto created = time_at(value, 0);
    const auto changed = time_at(value, 0x10);
    if (created && record.sequence > 1)
      make_later(record.in_use         ? in_use_again_
                 : record.sequence > 2 ? deleted_again_
                                       : deleted_twice_,
                 *created);
    if (!record.in_use && record.sequence == 1) counts_on_reuse_ = true;
    if (!record.folder && created && changed &&
        nanoseconds_between(*created, *changed) > kOneWriting_ns)
      make_later(index_.last_rewrite, *changed);
  }

  // A sequence tells how often a record was used. Systems count when a file is deleted, or when its
  // record is used again; a deleted record that was never counted on shows the latter.
  void find_unseen_lives() {
    for (const auto& latest : {in_use_again_, deleted_again_})
      if (latest) make_later(index_.last_unseen_life, *latest);
    if (counts_on_reuse_ && deleted_twice_) make_later(index_.last_unseen_life, *deleted_twice_);
  }

  // Of a file in use nothing else needs to tell.
  void gather_traces() {
    bool all = true;
    const TraceSink sink = [&](Reference file, Trace trace) {
      if (can_be_lost(file) && !holds(file)) all = index_.traces.add(file, std::move(trace)) && all;
    };
    if (const auto log = volume_.file(kLogRecord))
      if (const Stream* const data = log->find(kData)) read_log(volume_, *data, sink);
    for (const std::uint64_t number : journals_)
      if (const auto journal = volume_.file(number))
        if (const Stream* const lines = journal->find(kData, "$J"))
          read_change_journal(volume_, *lines, sink);
    SlackNames slack(volume_, sink);
    for (std::size_t number = 0; number < states_.size(); ++number) {
      if (number % 1024 == 0) volume_.context.check_cancelled();
      if (states_[number].base && states_[number].folder) slack.read(number);
    }
    if (!nameless_.empty()) read_freed_indexes();
    if (!all)
      volume_.context.report(FindingCode::budget_entries, Severity::warning, {},
                             "more deleted files are recorded elsewhere than are cached",
                             "the rest are listed only where their records are left");
    for (const std::size_t i : nameless_) give_name(index_.links[i], slack);
  }

  // Names of files whose records lost them, in indexes whose folders lost those.
  void read_freed_indexes() {
    std::unordered_map<std::uint64_t, std::uint16_t> lost;
    for (const std::size_t i : nameless_) {
      const std::uint32_t record = index_.links[i].record;
      if (record < states_.size()) lost.emplace(record, states_[record].sequence);
    }
    SlackNames freed(volume_, [&](Reference file, Trace trace) {
      const auto found = lost.find(file.record);
      if (found != lost.end() && found->second == file.sequence)
        index_.traces.add(file, std::move(trace));
    });
    freed.read_freed();
  }

  void give_name(Link& link, const SlackNames& slack) {
    const auto file = volume_.file(link.record);
    if (!file) return;
    const Trace* trace = index_.trace_of(*file);
    GivenName name;
    if (trace != nullptr) {
      name.evidence = "its name in " + std::string(evidence_source(trace->from));
    } else {
      trace = slack.of(*file);
      if (trace == nullptr) return;
      name.evidence = "its name in the slack of a folder's index, by its times";
    }
    name.text = trace->name;
    put_in(link, trace->folder);
    index_.given.emplace(link.record, std::move(name));
  }

  bool can_be_lost(Reference file) const {
    return file.record >= kFirstOwnRecord && file.record < volume_.records() && file.sequence != 0;
  }
  // Whether its record is in use by it.
  bool holds(Reference file) const {
    const State& state = states_[static_cast<std::size_t>(file.record)];
    return state.base && state.in_use && state.sequence == file.sequence;
  }
  // Whether its record is in use by it or was it last.
  bool is_left(Reference file) const {
    const State& state = states_[static_cast<std::size_t>(file.record)];
    if (!state.base) return false;
    if (state.sequence == file.sequence) return true;
    if (state.in_use || state.sequence != static_cast<std::uint16_t>(file.sequence + 1))
      return false;
    if (!counts_on_reuse_) return true;
    const auto last = volume_.file(file.record);
    const Trace* const trace = index_.traces.find(file);
    return last && (trace == nullptr || index_.trace_of(*last) == trace);
  }

  void find_remnants() {
    for (const Extension& extension : extensions_) {
      const Reference& file = extension.file;
      if (!can_be_lost(file)) continue;
      if (is_left(file)) {
        if (!extension.in_use) index_.further[file.record].push_back(extension.number);
        continue;
      }
      Remnant& remnant = index_.remnants[index_.remnants.place_of(file).first];
      remnant.records.push_back(extension.number);
      remnant.in_use = remnant.in_use || extension.in_use;
    }
    std::vector<std::uint64_t> told;
    told.reserve(index_.traces.all().size());
    for (const auto& [key, trace] : index_.traces.all()) told.push_back(key);
    std::sort(told.begin(), told.end());
    for (const std::uint64_t key : told) {
      const Reference file = Traces::reference_of(key);
      if (is_left(file)) continue;
      index_.remnants[index_.remnants.place_of(file).first].folder =
          index_.traces.find(file)->is_folder;
    }
    for (std::size_t place = 0; place < index_.remnants.size(); ++place) link_remnant(place);
  }

  void link_remnant(std::size_t place) {
    const File file = index_.remnants.file(volume_, place, index_.traces);
    State state;
    state.sequence = file.sequence;
    state.base = true;
    state.folder = file.folder;
    states_.push_back(state);
    Link link;
    link.record = static_cast<std::uint32_t>(volume_.records() + place);
    link.name = file.names.empty() ? kNameless : std::uint16_t{0};
    link.deleted = !file.in_use;
    link.orphan = file.in_use;
    link.is_folder = file.folder;
    if (!file.names.empty()) put_in(link, file.names.front().folder);
    index_.links.push_back(link);
  }

  // A folder whose record is another's now, by what lay in it.
  std::uint32_t lost_folder(Reference folder) {
    if (!with_deleted_ || !can_be_lost(folder) || is_left(folder)) return kNowhere;
    const auto [place, is_new] = index_.remnants.place_of(folder);
    if (volume_.records() + place >= kNowhere) return kNowhere;
    if (is_new) {
      index_.remnants[place].folder = true;
      link_remnant(place);
    }
    return index_.remnants[place].folder ? static_cast<std::uint32_t>(volume_.records() + place)
                                         : kNowhere;
  }

  // A name stands in its folder while that record still is that folder, or was until it was
  // deleted. Folders that are lost add links of their own.
  void join_folders() {
    for (std::size_t i = 0; i < index_.links.size(); ++i) {
      Link link = index_.links[i];
      if (link.folder == kNowhere) continue;
      const State& folder = states_[link.folder];
      const std::uint16_t then = link.folder_sequence;
      const bool same = folder.sequence == then || then == 0;
      const bool until_deleted =
          !folder.in_use && folder.sequence == static_cast<std::uint16_t>(then + 1);
      const bool is_it = folder.base && folder.folder && (same || until_deleted);
      if (!link.deleted && (!is_it || !folder.in_use)) link.orphan = true;
      if (!is_it) link.folder = lost_folder({link.folder, then});
      index_.links[i] = link;
    }
  }

  void order() {
    std::sort(index_.links.begin(), index_.links.end(), [](const Link& a, const Link& b) {
      return std::tie(a.folder, a.record, a.name) < std::tie(b.folder, b.record, b.name);
    });
  }

  // What neither the root nor a lost folder leads to (folders that hold each other) is given to
  // nowhere, so that every link is reached once.
  void gather_lost() {
    reach(static_cast<std::uint32_t>(kRootRecord));
    reach(kNowhere);
    std::vector<std::size_t> tops;
    for (std::size_t i = 0; i < index_.links.size(); ++i) {
      const Link& link = index_.links[i];
      if (!link.is_folder || link.folder == kNowhere || states_[link.record].reached ||
          states_[link.folder].reached)
        continue;
      tops.push_back(i);
      reach(link.record);
    }
    for (const std::size_t i : tops) {
      index_.links[i].folder = kNowhere;
      index_.links[i].orphan = !index_.links[i].deleted;
    }
    if (!tops.empty()) order();
  }

  template <typename Use>
  void each_in(std::uint32_t folder, Use use) const {
    const auto [from, to] = index_.in_folder(folder);
    for (std::size_t i = from; i < to; ++i) {
      const Link& link = index_.links[i];
      const auto file = index_.file(volume_, link.record);
      if (file && link.name < file->names.size()) use(link, *file, file->names[link.name].text);
    }
  }

  void read_recycle_bin() {
    each_in(static_cast<std::uint32_t>(kRootRecord),
            [&](const Link& bin, const File&, const std::string& name) {
              if (!bin.is_folder || !is_recycle_bin(name)) return;
              each_in(bin.record, [&](const Link& of, const File&, const std::string& owner) {
                if (of.is_folder) read_recycled(of.record, owner);
              });
            });
  }

  void read_recycled(std::uint32_t folder, const std::string& owner) {
    each_in(folder, [&](const Link&, const File& file, const std::string& name) {
      const Stream* const data = file.find(kData);
      const bool list = equal_ignoring_case(name, kOlderList);
      if ((!list && !name.starts_with("$I")) || data == nullptr ||
          data->size_bytes > (list ? kMaxAttributeList : kMaxRecycledBytes))
        return;
      Bytes bytes(static_cast<std::size_t>(data->size_bytes));
      volume_.bytes_of(*data, volume_.cached)->read(0, bytes);
      if (list)
        add_older_list(bytes, owner, index_.recycled);
      else if (auto recycled = parse_recycled(bytes))
        index_.recycled.emplace(owner + '/' + name.substr(2), std::move(*recycled));
    });
  }

  void reach(std::uint32_t top) {
    std::deque<std::uint32_t> todo = {top};
    if (top != kNowhere) states_[top].reached = true;
    while (!todo.empty()) {
      const auto [from, to] = index_.in_folder(todo.front());
      todo.pop_front();
      for (std::size_t i = from; i < to; ++i) {
        const Link& link = index_.links[i];
        if (!link.is_folder || states_[link.record].reached) continue;
        states_[link.record].reached = true;
        todo.push_back(link.record);
      }
    }
  }

  const Volume& volume_;
  bool with_deleted_;
  VolumeIndex index_;
  std::vector<State> states_;
  std::vector<Extension> extensions_;
  std::vector<std::uint64_t> journals_;
  std::vector<std::size_t> nameless_;  // links
  std::optional<Timestamp> in_use_again_, deleted_again_, deleted_twice_;
  bool counts_on_reuse_ = false;
};

}  // namespace

bool before(const Timestamp& a, const Timestamp& b) {
  return std::tie(a.seconds, a.nanoseconds) < std::tie(b.seconds, b.nanoseconds);
}

std::optional<File> VolumeIndex::file(const Volume& volume, std::uint64_t number) const {
  if (number < volume.records()) {
    const auto more = further.find(number);
    return more == further.end() ? volume.file(number) : volume.file(number, more->second);
  }
  return remnants.file(volume, static_cast<std::size_t>(number - volume.records()), traces);
}

const Trace* VolumeIndex::trace_of(const File& file) const {
  if (const Trace* const trace = traces.find({file.number, file.sequence})) return trace;
  // Its sequence was counted on when it was deleted, or that trace is of an earlier file.
  const Trace* const trace =
      traces.find({file.number, static_cast<std::uint16_t>(file.sequence - 1)});
  const auto bears = [&](const FileName& name) { return name.text == trace->name; };
  return trace != nullptr &&
                 (file.names.empty() || std::any_of(file.names.begin(), file.names.end(), bears))
             ? trace
             : nullptr;
}

std::pair<std::size_t, std::size_t> VolumeIndex::in_folder(std::uint32_t folder) const {
  const auto [from, to] =
      std::equal_range(links.begin(), links.end(), Link{folder},
                       [](const Link& a, const Link& b) { return a.folder < b.folder; });
  return {static_cast<std::size_t>(from - links.begin()),
          static_cast<std::size_t>(to - links.begin())};
}

VolumeIndex index_volume(const Volume& volume, bool with_deleted) {
  return Taking(volume, with_deleted).take();
}

}  // namespace lantern::ntfs
