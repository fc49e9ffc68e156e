#include "cli/files/entries.h"

#include <fmt/format.h>

#include <iterator>

namespace lantern::cli {
namespace {

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

std::string row_head(const RowOptions& options) {
  std::string head =
      fmt::format("{:<8}{:>6}  {:>{}}  ", "STATE", "WHOLE", "SIZE", size_width(options));
  if (options.form == RowForm::detailed)
    head += fmt::format("{:<9} {:>5} {:>11}  {:<19}  ", "MODE", "LINKS", "OWNER", "CREATED");
  head += fmt::format("{:<19}  ", "MODIFIED");
  if (options.ids) head += fmt::format("{:<18}", "ID");
  return head + (options.addresses ? "ADDRESS" : "PATH");
}

std::string row(const Streams& streams, const VolumeLayer& volume, const Entry& entry,
                const RowOptions& options) {
  fmt::memory_buffer line;
  const auto out = std::back_inserter(line);
  const std::string kind = kind_text(entry);
  fmt::format_to(out, "{:<8}{:>6}  {:>{}}  ", to_string(entry.state), intact_text(entry.intact),
                 kind.empty() ? size_text(entry.size_bytes, options.exact) : kind,
                 size_width(options));
  if (options.form == RowForm::detailed)
    fmt::format_to(out, "{:<9} {:>5} {:>11}  {:<19}  ",
                   entry.owner ? mode_text(entry.owner->mode) : entry.attributes, entry.links,
                   entry.owner ? fmt::format("{}:{}", entry.owner->user, entry.owner->group) : "",
                   time_text(entry.created));
  fmt::format_to(out, "{:<19}  ", time_text(entry.modified));
  if (options.ids) fmt::format_to(out, "{:<17} ", "@" + entry.id);
  const std::string address =
      options.addresses ? for_terminal(entry_address(volume, entry).print()) : std::string();
  if (options.addresses && entry.state == EntryState::active)
    fmt::format_to(out, "{}", address);
  else if (options.form == RowForm::tree)
    fmt::format_to(out, "{:{}}{}", "", (entry.path.size() - 1 - options.tree_depth) * 2,
                   for_terminal(entry.path.back()));
  else
    fmt::format_to(out, "{}", for_terminal(path_text(entry.path)));
  if (entry.kind == EntryKind::folder) fmt::format_to(out, "/");
  if (!entry.original_path.empty()) {
    fmt::format_to(out, "  was {}", for_terminal(entry.original_path));
    if (entry.deleted_at) fmt::format_to(out, " until {}", time_text(entry.deleted_at));
  }
  // An id alone tells nobody what it is.
  if (options.addresses && entry.state != EntryState::active) fmt::format_to(out, "  {}", address);
  const std::string_view text(line.data(), line.size());
  if (!streams.colour) return std::string(text);
  return coloured(streams,
                  entry.intact.value_or(0) != 1       ? Meaning::damaged
                  : entry.state != EntryState::active ? Meaning::deleted
                                                      : Meaning::plain,
                  text);
}

}  // namespace lantern::cli
