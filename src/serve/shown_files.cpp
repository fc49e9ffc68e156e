#include "serve/shown_files.h"

#include <fmt/format.h>

#include <algorithm>

#include "lantern/error.h"
#include "lantern/recover/content_check.h"
#include "lantern/text.h"
#include "serve/gathered.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxText = 60'000;  // bytes; an attribute holds 64 KiB

constexpr std::string_view kState = "user.lantern.state", kIntact = "user.lantern.intact",
                           kEvidence = "user.lantern.evidence", kPlaces = "user.lantern.places",
                           kVerified = "user.lantern.verified";

}  // namespace

bool is_well(const Entry& entry) {
  return entry.state == EntryState::active && entry.intact.value_or(1) == 1;
}

std::string share_text(const Entry& entry) {
  if (!entry.intact) return "unknown";
  return fmt::format("{:.2f}", *entry.intact == 1 ? 1 : std::min(*entry.intact, 0.99));
}

std::shared_ptr<ShownFiles> ShownFiles::deleted(Target target, const Context& context) {
  auto shown = std::make_shared<ShownFiles>(std::move(target), true, context);
  shown->open_ = [self = shown.get()] {
    const Target& of = self->target_;
    self->files_ = gather(of.volume->file_system(), [&](const EntryVisitor& visit) {
      WalkOptions options;
      options.active = false;
      options.deleted = true;
      const auto take = [&](const Entry& entry) {
        return entry.state == EntryState::active ? WalkStep::go_on : visit(entry);
      };
      if (of.entry)
        walk_target(of, options, take);
      else
        of.file_system().walk(options, take);
    });
  };
  return shown;
}

std::shared_ptr<ShownFiles> ShownFiles::earlier(Target target, const std::string& version,
                                                const Session& session) {
  auto shown = std::make_shared<ShownFiles>(std::move(target), false, session.context());
  shown->by_path_ = true;
  shown->open_ = [self = shown.get(), version, session] {
    self->target_.volume = session.open_version(self->target_.volume_layer(), version);
  };
  return shown;
}

const FileSystem& ShownFiles::files() {
  if (open_) {
    open_();
    open_ = nullptr;
  }
  return files_ ? *files_ : target_.file_system();
}

void ShownFiles::walk(const Entry& folder, const EntryVisitor& visit) {
  const FileSystem& from = files();
  WalkOptions options;
  options.under = folder.path;
  options.max_depth = 1;
  options.deleted = all_;
  from.walk(options, [&](const Entry& entry) {
    // Another folder of the same path is not this one.
    if (!by_path_ && entry.parent != folder.id) return WalkStep::go_on;
    return visit(entry);
  });
}

SourcePtr ShownFiles::content(const Entry& entry) {
  return files().open(entry).bytes;
}

// Those that the disk has. A catalog without its disk has none.
std::vector<Attribute> ShownFiles::own_attributes(const Entry& entry) {
  if (entry.state != EntryState::active || entry.id.empty()) return {};
  try {
    return files().attributes(entry);
  } catch (const Error&) {
    return {};
  }
}

std::vector<std::string> ShownFiles::attribute_names(const Entry& entry) {
  std::vector<std::string> names;
  for (Attribute& attribute : own_attributes(entry)) names.push_back(std::move(attribute.name));
  if (entry.id.empty() || entry.kind != EntryKind::file || entry.intact == 1 || is_well(entry))
    return names;
  for (const std::string_view name : {kState, kIntact, kPlaces}) names.emplace_back(name);
  if (!entry.evidence.empty()) names.emplace_back(kEvidence);
  return names;
}

std::optional<std::string> ShownFiles::attribute(const Entry& entry, const std::string& name) {
  if (!entry.id.empty() && entry.kind == EntryKind::file) {
    if (name == kState) return std::string(to_string(entry.state));
    if (name == kIntact) return share_text(entry);
    if (name == kEvidence && !entry.evidence.empty()) return entry.evidence;
    if (name == kPlaces) return places(entry);
    if (name == kVerified) return verified(entry);
  }
  for (Attribute& attribute : own_attributes(entry))
    if (attribute.name == name) return std::move(attribute.value);
  return std::nullopt;
}

// Where it lies in the outermost file or device that holds it, a line each.
std::string ShownFiles::places(const Entry& entry) {
  std::string lines;
  follow_down(target_, *content(entry), [&](const LayeredExtent& extent) {
    if (extent.places.empty()) return true;
    const LayeredExtent::Place& place = extent.places.back();
    lines +=
        fmt::format("{}{} byte {}, {} bytes", lines.empty() ? "" : "\n",
                    for_terminal(place.address), place.offset_bytes, extent.extent.range.length);
    if (lines.size() < kMaxText) return true;
    lines += "\nand more";
    return false;
  });
  return lines;
}

// Reads it all.
std::string ShownFiles::verified(const Entry& entry) {
  const ContentCheck check = check_entry(target_, entry, content(entry), context_);
  std::string text = check.verified ? "yes" : check.breaks ? "no" : "unknown";
  if (!check.why.empty()) text += ": " + check.why;
  return text;
}

}  // namespace lantern
