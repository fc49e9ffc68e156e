#include "filesystem/ext/deleted/deleted_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <unordered_map>
#include <unordered_set>

#include "base/checked.h"
#include "base/kinds/content_kind.h"
#include "filesystem/ext/attributes.h"
#include "filesystem/ext/deleted/claims.h"
#include "filesystem/ext/deleted/inode_history.h"
#include "filesystem/ext/folder.h"
#include "filesystem/ext/journal.h"

namespace lantern::ext {
namespace {

constexpr std::uint64_t kMaxInodes = 1ull << 29;  // a bit for each is kept
constexpr std::uint64_t kPiece = 1u << 20;

// Whether every block of one map lies in the other, at its place: then nothing was replaced.
bool is_part_of(const BlockMap& part, const BlockMap& whole) {
  return std::all_of(part.runs.begin(), part.runs.end(), [&](const BlockRun& run) {
    return std::any_of(whole.runs.begin(), whole.runs.end(), [&](const BlockRun& other) {
      return run.logical >= other.logical &&
             run.logical + run.count <= other.logical + other.count &&
             run.physical - other.physical == run.logical - other.logical;
    });
  });
}

struct Name {
  InodeKey parent{};
  std::string text;
  std::uint32_t sequence = 0;  // 0: not from the journal
  const char* from = "";
};

class Taker {
 public:
  explicit Taker(const Volume& volume) : volume_(volume), inodes_(volume, Bitmap::Of::inodes) {}

  DeletedIndex run() {
    history_ = read_history(volume_);
    tables_.emplace(volume_);
    for (std::size_t i = 0; i < history_.copies.size(); ++i)
      by_block_.emplace(history_.copies[i].block, i);
    walk_folders();
    histories_.emplace(volume_, history_, *tables_);
    inodes_of_tables();
    map_blocks_of_lost();
    add_versions();
    names_of_journal();
    names_of_lost_folders();
    name_all();
    name_versions();
    judge_claims(volume_, history_, std::move(died_), index_.lost);
    for (std::size_t i = 0; i < index_.lost.size(); ++i)
      index_.children.emplace(index_.lost[i].parent, i);
    return std::move(index_);
  }

 private:
  // Learns which inodes have names and which blocks are of folders; keeps what lies in folders
  // between the entries.
  void walk_folders() {
    // No more inodes than the volume as it is has room for.
    const std::uint64_t count = std::min<std::uint64_t>(
        volume_.super.inode_count, volume_.there_bytes / volume_.super.inode_bytes);
    if (count < kMaxInodes) named_.resize(static_cast<std::size_t>(count) + 1);
    std::vector<std::uint32_t> to_do = {kRootInode};
    std::set<std::uint32_t> entered = {kRootInode};
    Bytes bytes(volume_.super.block_bytes);
    mark_named(kRootInode);
    while (!to_do.empty()) {
      const std::uint32_t number = to_do.back();
      to_do.pop_back();
      volume_.context.check_cancelled();
      const auto inode = volume_.inode(number);
      if (!inode || !inode->folder()) continue;
      const InodeKey key{number, inode->generation};
      folders_.push_back(key);
      const auto take = [&](const FolderEntry& entry) {
        if (entry.name == "." || entry.name == "..") return;
        mark_named(entry.inode);
        const auto child =
            entry.type == 2 || entry.type == 0 ? volume_.inode(entry.inode) : std::nullopt;
        if (child && child->folder() && child->links > 0 && entered.insert(entry.inode).second)
          to_do.push_back(entry.inode);
      };
      if (inode->has(kInline)) {
        FolderReader reader(volume_, *inode);
        while (const FolderEntry* entry = reader.next()) take(*entry);
        continue;
      }
      for (const BlockRun& run : map_blocks(volume_, *inode).runs)
        for (std::uint64_t i = 0; i < run.here(volume_) && !run.unwritten; ++i) {
          folder_blocks_.emplace(run.physical + i, key);
          if (!volume_.read_block(run.physical + i, bytes)) continue;
          const FolderBlock block = parse_folder_block(volume_, bytes, true);
          for (const FolderEntry& entry : block.entries) take(entry);
          for (const FolderEntry& entry : block.removed)
            loose_names_.emplace(entry.inode,
                                 Name{key, entry.name, 0, "an unused part of its folder"});
        }
    }
  }

  void mark_named(std::uint32_t number) {
    if (number < named_.size()) named_[number] = true;
  }
  bool is_named(std::uint32_t number) const { return number >= named_.size() || named_[number]; }

  void inodes_of_tables() {
    // What the journal shows alive once and is not now is lost.
    for (const auto& [number, histories] : histories_->all())
      for (const auto& [generation, life] : histories) {
        add_older(life, life.inode ? life.inode : inode_now(volume_, number));
        if (life.inode)
          add_lost(*life.inode, EntryState::deleted,
                   {life.first_seen, life.died != 0 ? life.died : life.last_alive, false},
                   fmt::format("inode from the journal, transaction {}", life.last_alive),
                   history_.unbroken_from > life.last_alive + 1);
      }
    Bytes piece(kPiece);
    for (const InodeTable& table : tables_->written()) {
      const std::uint64_t bytes = table.count * volume_.super.inode_bytes;
      for (std::uint64_t at = 0; at < bytes; at += kPiece) {
        volume_.context.check_cancelled();
        const Range part{table.offset + at, std::min(kPiece, bytes - at)};
        if (known_zero(*volume_.raw, intersect(part, {0, volume_.raw->size()}))) continue;
        const auto target = std::span(piece).first(static_cast<std::size_t>(part.length));
        std::fill(target.begin(), target.end(), std::byte{0});
        volume_.raw->read(part.offset, target);
        inodes_of_piece(target, table.first + at / volume_.super.inode_bytes);
      }
    }
    for (const LooseFolder& folder : volume_.loose_folders)
      if (const auto inode = volume_.inode(folder.number); inode && !is_named(folder.number))
        orphans_.push_back(*inode);
    // What a folder without a name holds is found in it.
    std::unordered_set<std::uint32_t> held;
    for (const Inode& orphan : orphans_) {
      if (!orphan.folder()) continue;
      FolderReader reader(volume_, orphan);
      while (const FolderEntry* entry = reader.next())
        if (entry->name != "." && entry->name != ".." && entry->inode != orphan.number)
          held.insert(entry->inode);
    }
    for (const Inode& orphan : orphans_)
      if (!held.contains(orphan.number))
        add_lost(orphan, EntryState::orphan, {}, "no folder names its inode", false);
  }

  // What a file held before `now`, where blocks of it were given up since.
  void add_older(const InodeHistory& life, const std::optional<Inode>& now) {
    if (!now || !now->file()) return;
    for (std::size_t i = 0; i < life.older.size(); ++i) {
      const InodeHistory::Older& older = life.older[i];
      if (!older.inode.file() || older.inode.has(kInline)) continue;
      Lost lost;
      lost.inode = older.inode;
      lost.version = older.last_seen;
      lost.evidence =
          fmt::format("what it held up to transaction {} of the journal", older.last_seen);
      lost.unproven = history_.unbroken_from > older.last_seen + 1;
      versions_.push_back({std::move(lost), {older.first_seen, older.last_seen, false}, *now});
    }
  }

  // Once maps can be read: those of which something was replaced.
  void add_versions() {
    for (Version& version : versions_) {
      volume_.context.check_cancelled();
      BlockMap then = map_then(version.lost, version.died);
      BlockMap now = map_then_of(version.now);
      if (then.runs.empty() || is_part_of(then, now)) continue;
      // A step on the way to a longer file is no content of its own.
      const bool repeated =
          std::any_of(index_.lost.begin(), index_.lost.end(), [&](const Lost& other) {
            return other.version != 0 && other.inode.number == version.lost.inode.number &&
                   other.inode.size_bytes >= version.lost.inode.size_bytes &&
                   is_part_of(then, other.map);
          });
      if (repeated) continue;
      version.lost.map = std::move(then);
      version_names_.emplace(version.lost.key(), index_.lost.size());
      index_.lost.push_back(std::move(version.lost));
      died_.push_back(version.died);
    }
  }

  void inodes_of_piece(ByteView piece, std::uint64_t first) {
    const std::size_t step = volume_.super.inode_bytes;
    for (std::size_t at = 0; at + step <= piece.size(); at += step) {
      const std::uint64_t number = first + at / step;
      if (number < kFirstOwnInode || number > volume_.super.inode_count) continue;
      if (le16(piece, at) == 0) continue;
      const auto own = static_cast<std::uint32_t>(number);
      const bool has_name = is_named(own);
      const bool alive = le16(piece, at + 0x1A) != 0 && le32(piece, at + 0x14) == 0;
      if (alive && has_name) continue;
      Inode inode = parse_inode(volume_.super, own, piece.subspan(at, step));
      if (!inode.sum_is_right || !inode.kind()) continue;
      if (own == volume_.super.journal_inode || own == volume_.super.orphan_file) continue;
      if (inode.has(kOfAttribute)) continue;
      const bool allocated = inodes_.in_use(own);
      if (alive && allocated)
        orphans_.push_back(inode);
      else if (!alive && allocated && inode.has_content() && volume_.loose_tables.empty())
        add_lost(inode, EntryState::deleted, {}, "it was still open when it was deleted", false);
      else if ((!allocated || !volume_.loose_tables.empty()) && inode.has_content() &&
               inode.size_bytes > 0)
        add_lost(inode, EntryState::deleted, {}, "its inode is still in the table", true);
    }
  }

  void add_lost(const Inode& inode, EntryState state, Died died, std::string evidence,
                bool unproven) {
    if (!keys_.emplace(InodeKey{inode.number, inode.generation}, index_.lost.size()).second) return;
    Lost lost;
    lost.inode = inode;
    lost.state = state;
    lost.evidence = std::move(evidence);
    lost.unproven = unproven;
    index_.lost.push_back(std::move(lost));
    died.owns_blocks = inodes_.in_use(inode.number) && owns_its_blocks(inode);
    died_.push_back(died);
  }

  // Whether the blocks of an inode without a name are still marked as its own.
  bool owns_its_blocks(const Inode& inode) {
    const auto current = volume_.inode(inode.number);
    return current && current->generation == inode.generation && current->has_content();
  }

  // The map as it was in its time.
  BlockMap map_then(Lost& lost, const Died& died) {
    const ReadNode read_node = [&](std::uint64_t block, Range of,
                                   const std::function<bool(ByteView)>& right, Bytes& out) {
      // A copy of its time is surely its own; what lies in its place may be another's by now.
      auto [from, to] = by_block_.equal_range(block);
      while (to != from) {
        const JournalCopy& copy = history_.copies[(--to)->second];
        if (copy.sequence <= died.sequence && copy.sequence >= died.first_seen &&
            read_copy(volume_, copy, out) && right(out))
          return true;
      }
      if (!volume_.read_block(block, out) || !right(out)) return false;
      lost.nodes_on_disk.push_back({block, of});
      return true;
    };
    return map_blocks(volume_, lost.inode, read_node);
  }

  // The map of an inode as it is, without a word of damage.
  BlockMap map_then_of(const Inode& inode) {
    Lost now;
    now.inode = inode;
    return map_then(now, {0, 0xFFFFFFFF, false});
  }

  void map_blocks_of_lost() {
    for (std::size_t i = 0; i < index_.lost.size(); ++i) {
      Lost& lost = index_.lost[i];
      volume_.context.check_cancelled();
      if (lost.inode.has(kInline) || lost.inode.fast_symlink() || !lost.inode.has_content())
        continue;
      if (!lost.inode.file() && !lost.inode.folder() && !lost.inode.symlink()) continue;
      lost.map = map_then(lost, died_[i]);
      if (!lost.inode.folder()) continue;
      for (const BlockRun& run : lost.map.runs)
        for (std::uint64_t block = 0; block < run.here(volume_); ++block)
          folder_blocks_.emplace(run.physical + block, lost.key());
    }
  }

  void names_of_block(ByteView bytes, InodeKey folder, std::uint32_t sequence, const char* from) {
    const FolderBlock block = parse_folder_block(volume_, bytes, true);
    for (const auto* entries : {&block.removed, &block.entries})
      for (const FolderEntry& entry : *entries) {
        if (entry.name == "." || entry.name == "..") continue;
        const auto generation = histories_->generation_at(entry.inode, sequence);
        if (!generation) continue;
        const auto lost = keys_.find({entry.inode, *generation});
        if (lost == keys_.end()) continue;
        Name& name = names_[lost->second];
        if (name.text.empty() || sequence >= name.sequence)
          name = {folder, entry.name, sequence, from};
      }
  }

  // The folder a block belongs to: as it says itself, or as the maps have it.
  InodeKey folder_of(std::uint64_t block, ByteView bytes, std::uint32_t sequence) const {
    if (has_text(bytes, 8, ".") && u8(bytes, 6) == 1 && le32(bytes, 0) != 0) {
      const std::uint32_t number = le32(bytes, 0);
      if (const auto generation = histories_->generation_at(number, sequence))
        return {number, *generation};
      if (const auto inode = volume_.inode(number); inode && inode->folder())
        return {number, inode->generation};
    }
    const auto found = folder_blocks_.find(block);
    return found == folder_blocks_.end() ? InodeKey{} : found->second;
  }

  void names_of_journal() {
    Bytes bytes(volume_.super.block_bytes);
    for (const JournalCopy& copy : history_.copies) {
      if (!read_copy(volume_, copy, bytes)) continue;
      volume_.context.check_cancelled();
      if (const auto first = tables_->first_inode_of(copy.block)) {
        if (volume_.super.has(kInlineData)) names_in_inodes(bytes, *first, copy.sequence);
        continue;
      }
      if (!is_folder_block(volume_, bytes)) continue;
      names_of_block(bytes, folder_of(copy.block, bytes, copy.sequence), copy.sequence,
                     "a folder block in the journal");
    }
  }

  // Small folders are kept in their inodes.
  void names_in_inodes(ByteView block, std::uint32_t first, std::uint32_t sequence) {
    const std::size_t step = volume_.super.inode_bytes;
    for (std::size_t at = 0; at + step <= block.size(); at += step) {
      const ByteView record = block.subspan(at, step);
      const auto number = static_cast<std::uint32_t>(first + at / step);
      const Inode inode = parse_inode(volume_.super, number, record);
      if (!inode.folder() || !inode.has(kInline) || !inode.sum_is_right) continue;
      for (const Bytes& part : inline_folder(volume_, inode, record))
        names_of_block(part, {number, inode.generation}, sequence,
                       "its folder's inode in the journal");
    }
  }

  // Folders that are lost themselves: their blocks may still be there.
  void names_of_lost_folders() {
    Bytes bytes(volume_.super.block_bytes);
    for (const auto& [key, index] : keys_) {
      const Lost& lost = index_.lost[index];
      if (!lost.inode.folder()) continue;
      if (lost.inode.has(kInline)) {
        FolderReader reader(volume_, lost.inode);
        while (const FolderEntry* entry = reader.next())
          add_loose(entry->inode, lost.key(), entry->name);
        continue;
      }
      for (const BlockRun& run : lost.map.runs)
        for (std::uint64_t i = 0; i < run.here(volume_); ++i) {
          if (!volume_.read_block(run.physical + i, bytes)) continue;
          const bool own_start = run.logical + i == 0 && le32(bytes, 0) == lost.inode.number;
          if (!own_start && (run.logical + i == 0 || !is_folder_block(volume_, bytes))) continue;
          const FolderBlock block = parse_folder_block(volume_, bytes, true);
          for (const auto* entries : {&block.entries, &block.removed})
            for (const FolderEntry& entry : *entries)
              add_loose(entry.inode, lost.key(), entry.name);
        }
    }
  }

  void add_loose(std::uint32_t inode, InodeKey folder, const std::string& name) {
    if (name != "." && name != "..")
      loose_names_.emplace(inode, Name{folder, name, 0, "what is left of its folder"});
  }

  void name_all() {
    for (auto& [key, index] : keys_) {
      Lost& lost = index_.lost[index];
      auto found = names_.find(index);
      if (found == names_.end()) {
        // Names of no known time: they are of this inode when no other life of it is known.
        const auto loose = loose_names_.find(key.first);
        const bool only = histories_->count(key.first) <= 1;
        if (loose != loose_names_.end() && only) found = names_.emplace(index, loose->second).first;
      }
      if (found == names_.end()) {
        lost.evidence += "; its name is lost";
        lost.name = name_that_tells(lost);
        continue;
      }
      lost.name = found->second.text;
      lost.parent = found->second.parent;
      lost.evidence += fmt::format("; name from {}", found->second.from);
    }
  }

  // Inode and kind of content, where its first block is still its own.
  std::string name_that_tells(const Lost& lost) const {
    std::string name = fmt::format("inode-{}", lost.inode.number);
    if (!lost.inode.file() || lost.map.runs.empty() || lost.map.runs.front().logical != 0)
      return name;
    Bytes start(static_cast<std::size_t>(
        std::min<std::uint64_t>({kKindBytes, lost.inode.size_bytes, volume_.super.block_bytes})));
    start.resize(
        volume_.raw->read(volume_.block_place(lost.map.runs.front().physical), start).length);
    const std::string_view kind = content_kind(start);
    return kind.empty() ? name : fmt::format("{}.{}", name, kind);
  }

  // Earlier contents stand under the name of their file, or of what is left of it.
  void name_versions() {
    if (version_names_.empty()) return;
    const auto take = [&](InodeKey own, InodeKey folder, const std::string& name) {
      const auto [from, to] = version_names_.equal_range(own);
      for (auto version = from; version != to; ++version) {
        Lost& lost = index_.lost[version->second];
        if (!lost.name.empty()) continue;
        lost.name = name;
        lost.parent = folder;
      }
    };
    for (const auto& [key, index] : keys_)
      if (!index_.lost[index].name.empty())
        take(key, index_.lost[index].parent, index_.lost[index].name);
    for (const InodeKey& key : folders_) {
      const auto inode = volume_.inode(key.first);
      if (!inode) continue;
      FolderReader reader(volume_, *inode);
      while (const FolderEntry* entry = reader.next())
        if (const auto own = version_names_.lower_bound({entry->inode, 0});
            own != version_names_.end() && own->first.first == entry->inode)
          if (const auto now_there = inode_now(volume_, entry->inode))
            take({entry->inode, now_there->generation}, key, entry->name);
    }
    for (const auto& [key, index] : version_names_)
      if (Lost& lost = index_.lost[index]; lost.name.empty()) lost.name = name_that_tells(lost);
  }

  const Volume& volume_;
  Bitmap inodes_;
  History history_;
  std::optional<InodeTables> tables_;
  std::multimap<std::uint64_t, std::size_t> by_block_;  // copies, oldest first
  std::vector<bool> named_;                             // inodes a folder names
  std::vector<InodeKey> folders_;                       // that have names
  std::unordered_map<std::uint64_t, InodeKey> folder_blocks_;
  std::optional<InodeHistories> histories_;
  std::multimap<std::uint32_t, Name> loose_names_;  // by inode
  std::map<InodeKey, std::size_t> keys_;            // index in index_.lost
  struct Version {
    Lost lost;
    Died died;
    Inode now;
  };
  std::vector<Inode> orphans_;
  std::vector<Version> versions_;                       // newest last, of each inode
  std::multimap<InodeKey, std::size_t> version_names_;  // inode: index in index_.lost
  std::map<std::size_t, Name> names_;                   // by index in index_.lost
  std::vector<Died> died_;                              // beside index_.lost
  DeletedIndex index_;
};

}  // namespace

DeletedIndex index_deleted(const Volume& volume) {
  return Taker(volume).run();
}

}  // namespace lantern::ext
