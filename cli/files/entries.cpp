#include "cli/files/entries.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <iterator>

namespace lantern::cli {
namespace {

constexpr std::size_t kPathWidth = 44;  // of the column, where another follows

int size_width(const RowOptions& options) {
  return options.exact ? 14 : 10;
}

}  // namespace

std::string version_text(const Address& address, const DiskVersion& version) {
  return fmt::format("as it was {}: {}", version.created ? to_iso8601(*version.created) : "before",
                     address.print());
}

std::string mode_text(std::uint32_t mode) {
  std::string text = "rwxrwxrwx";
  for (std::size_t i = 0; i < text.size(); ++i)
    if ((mode >> (8 - i) & 1) == 0) text[i] = '-';
  const auto special = [&](std::size_t at, std::uint32_t bit, char letter) {
    if ((mode & bit) == 0) return;
    text[at] = text[at] == 'x' ? letter : static_cast<char>(letter - 'a' + 'A');
  };
  special(2, 04000, 's');
  special(5, 02000, 's');
  special(8, 01000, 't');
  return text;
}

std::string kind_text(const Entry& entry) {
  switch (entry.kind) {
    case EntryKind::file:
      return {};
    case EntryKind::char_device:
    case EntryKind::block_device:
      return fmt::format("dev {},{}", entry.device >> 32, entry.device & 0xFFFFFFFF);
    default:
      return std::string(to_string(entry.kind));
  }
}

namespace {

// Those of a disk with files that can be read; what a member of a set holds is the set's.
std::vector<Target> volumes_of(const Target& disk, const SpannedSets& sets) {
  std::vector<Target> targets;
  for (const VolumePtr& volume : disk.disk().volumes.all()) {
    const bool member =
        std::any_of(sets.sets.begin(), sets.sets.end(), [&](const SpannedSets::Set& one) {
          return std::any_of(one.members.begin(), one.members.end(), [&](const LayerPtr& layer) {
            return layer && layer->address == volume->address;
          });
        });
    if (member || !volume->file_system()) continue;
    targets.push_back(disk);
    targets.back().volume = volume;
  }
  return targets;
}

// Of disks that were pulled from one machine.
std::vector<Target> every_volume_of_folder(const Address& folder, const Session& session) {
  const auto sets = session.spanned_sets(folder);
  std::vector<Target> targets;
  for (const Address& address : disks_of(folder, session.context()))
    for (Target& target : volumes_of(session.open_disk(address), *sets))
      targets.push_back(std::move(target));
  for (Target& spanned : spanned_targets(sets, session)) targets.push_back(std::move(spanned));
  if (targets.empty()) targets.push_back(session.open_volume(folder));
  return targets;
}

}  // namespace

std::vector<Target> every_volume(const Address& address, const Session& session) {
  std::error_code error;
  if (address.steps.empty() && std::filesystem::is_directory(address.first, error))
    return every_volume_of_folder(address, session);
  Target target = session.open(address);
  // A file that is a disk is looked into.
  if (target.entry && target.entry->kind == EntryKind::file) {
    Context quiet = session.context();
    quiet.findings = std::make_shared<FindingSink>();
    const Target inside = session.with(quiet).open_disk(address);
    const VolumeList& volumes = inside.disk().volumes;
    if (std::any_of(volumes.begin(), volumes.end(),
                    [](const VolumeLayer& volume) { return volume.file_system() != nullptr; }))
      target = session.open_disk(address);
  }
  if (target.entry || target.volume) return {session.open_volume(address)};
  const auto sets = session.spanned_sets(target.disk().address, target.disks);
  std::vector<Target> targets = volumes_of(target, *sets);
  for (Target& spanned : spanned_targets(sets, session)) targets.push_back(std::move(spanned));
  // Says why there is none, and what to do.
  if (targets.empty()) targets.push_back(session.open_volume(address));
  return targets;
}

bool means_every_volume(bool asked, const Address& address) {
  return asked || (address.steps.empty() && is_catalog(address.first));
}

std::string row_head(const RowOptions& options) {
  std::string head =
      fmt::format("{:<8}{:>6}  {:>{}}  ", "STATE", "INTACT", "SIZE", size_width(options));
  if (options.form == RowForm::detailed)
    head += fmt::format("{:<9} {:>5} {:>11}  {:<19}  ", "MODE", "LINKS", "OWNER", "CREATED");
  if (options.content) head += fmt::format("{:<13}  ", "CONTENT");
  head += fmt::format("{:<19}  ", "MODIFIED");
  if (options.ids) head += fmt::format("{:<18}", "ID");
  return head + (options.addresses ? fmt::format("{:<{}}  ADDRESS", "PATH", kPathWidth) : "PATH");
}

std::unique_ptr<EntryChecker> checker_for(const Target& target, bool verify,
                                          const Context& context) {
  return verify ? std::make_unique<EntryChecker>(target, context) : nullptr;
}

void with_check(EntryChecker* checker, const Entry& entry,
                const std::function<void(const Entry&, const ContentCheck&)>& use) {
  if (checker == nullptr) return use(entry, {});
  const ContentCheck check = checker->check(entry);
  use(checked(entry, check), check);
}

void write_json(JsonWriter& json, const Target& target, const Entry& entry, EntryChecker* checker) {
  with_check(checker, entry, [&](const Entry& known, const ContentCheck& check) {
    write_json(json, target.volume_layer(), known, [&](JsonWriter& object) {
      if (checker != nullptr) write_json(object, check);
    });
  });
}

std::string row(const Streams& streams, const VolumeLayer& volume, const Entry& entry,
                const RowOptions& options, const ContentCheck& check) {
  fmt::memory_buffer line;
  const auto out = std::back_inserter(line);
  const std::string kind = kind_text(entry);
  // What is there and whole needs no word.
  const bool well = entry.state == EntryState::active && entry.intact.value_or(1) == 1;
  fmt::format_to(
      out, "{:<8}{:>6}  {:>{}}  ", to_string(entry.state), well ? "" : intact_text(entry.intact),
      kind.empty() ? size_text(entry.size_bytes, options.exact) : kind, size_width(options));
  if (options.form == RowForm::detailed)
    fmt::format_to(out, "{:<9} {:>5} {:>11}  {:<19}  ",
                   entry.owner ? mode_text(entry.owner->mode) : entry.attributes, entry.links,
                   entry.owner ? fmt::format("{}:{}", entry.owner->user, entry.owner->group) : "",
                   time_text(entry.created));
  if (options.content)
    fmt::format_to(out, "{:<13}  ",
                   check.verified                               ? "verified"
                   : check.structure == StructureState::unknown ? ""
                                                                : to_string(check.structure));
  fmt::format_to(out, "{:<19}  ", time_text(entry.modified));
  if (options.ids) fmt::format_to(out, "{:<17} ", "@" + entry.id);
  const std::size_t indent = line.size();
  const bool folder = entry.kind == EntryKind::folder;
  std::string path;
  if (options.form == RowForm::tree)
    path = std::string((entry.path.size() - 1 - options.tree_depth) * 2, ' ') +
           for_terminal(entry.path.back());
  else if (options.names && !folder)
    path = "  " + for_terminal(entry.path.back());
  else
    path = for_terminal(path_text(entry.path));
  if (folder) path += '/';
  if (!entry.original_path.empty()) {
    path += "  was " + for_terminal(entry.original_path);
    if (entry.deleted_at) path += " until " + time_text(entry.deleted_at);
  }
  std::string text(line.data(), line.size());
  if (!options.addresses) {
    text += broken_into(path, indent, streams.width);
  } else {
    const std::size_t wide = columns_of(path);
    const std::string address = for_terminal(entry_address(volume, entry).print());
    const std::string gap(wide < kPathWidth ? kPathWidth - wide : 0, ' ');
    const std::size_t together = indent + wide + gap.size() + 2 + columns_of(address);
    // An address is there to be copied: on a line of its own where it would be broken.
    if (streams.width == 0 || together <= streams.width)
      text += path + gap + "  " + address;
    else
      text += broken_into(path, indent, streams.width) + "\n        " + address;
  }
  return coloured(streams,
                  !well && entry.intact.value_or(0) != 1 ? Meaning::damaged
                  : entry.state != EntryState::active    ? Meaning::deleted
                                                         : Meaning::plain,
                  text);
}

}  // namespace lantern::cli
