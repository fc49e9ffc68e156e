#include "container/chain.h"

#include <fmt/format.h>

#include <algorithm>

#include "container/vdi/vdi.h"
#include "container/vhd/vhd.h"
#include "container/vhdx/vhdx.h"
#include "container/vmdk/vmdk.h"
#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// No chain a hypervisor makes is longer; one that is, is a trap.
constexpr std::size_t kLongestChain = 256;
constexpr std::size_t kMaxCandidates = 10'000;
constexpr std::size_t kMaxNames = 32;

// The parts of a path as any system writes it; "." is left out.
std::vector<std::string> parts_of(std::string_view written) {
  std::vector<std::string> parts;
  std::string part;
  for (const char c : written) {
    if (c != '/' && c != '\\') {
      part += c;
      continue;
    }
    if (!part.empty() && part != ".") parts.push_back(part);
    part.clear();
  }
  if (!part.empty() && part != ".") parts.push_back(part);
  return parts;
}

bool leads_outside(std::string_view written) {
  return written.starts_with('/') || written.starts_with('\\') ||
         (written.size() > 1 && written[1] == ':');
}

std::optional<FoundFile> found(const std::shared_ptr<const Neighbours>& folder,
                               const std::string& name, std::string why,
                               const Surroundings& around) {
  auto file = folder->open(name);
  if (!file) return std::nullopt;
  FoundFile result{*file, folder->place(name), std::move(why), around};
  result.around.name = name.substr(name.rfind('/') + 1);
  result.around.beside = folder->folder_of(name);
  return result;
}

template <typename Use>
void each_folder(const Surroundings& around, Use use) {
  if (around.beside) use(around.beside, "beside the image");
  for (const auto& folder : around.look_in) use(folder, "in a folder to look in");
}

bool answers_to(const FoundFile& file, const std::string& id) {
  if (id.empty()) return true;
  const std::vector<std::string> ids = identities(file.file);
  return std::find(ids.begin(), ids.end(), id) != ids.end();
}

std::string asked_for(const ParentWanted& wanted) {
  std::string text;
  for (const std::string& name : wanted.names)
    text += fmt::format("{}\"{}\"", text.empty() ? "" : " or ", for_terminal(name));
  if (!wanted.id.empty())
    text += fmt::format("{}identity {}", text.empty() ? "" : ", ", for_terminal(wanted.id));
  return text;
}

Parent missing_parent(const ParentWanted& wanted, const Context& context, std::string why) {
  const std::string asked = asked_for(wanted);
  context.report(FindingCode::chain_parent_missing, Severity::damage, {},
                 fmt::format("the parent (backing file) cannot be used: {} ({})", asked, why),
                 "what this file holds itself is read, the rest is treated as unreadable; add "
                 "the parent's folder to the search folders");
  Parent parent;
  parent.missing = true;
  ChainLink link;
  link.place = wanted.names.empty() ? wanted.id : wanted.names.front();
  link.why = std::move(why);
  link.missing = true;
  parent.chain.push_back(std::move(link));
  return parent;
}

std::optional<FoundFile> choose_parent(const ParentWanted& wanted, const Surroundings& around,
                                       const Context& context) {
  std::optional<FoundFile> other;
  for (const std::string& name : wanted.names) {
    auto file = find_file(name, around);
    if (!file) continue;
    if (answers_to(*file, wanted.id)) {
      if (!wanted.id.empty()) file->why += " and its identity fits";
      return file;
    }
    if (!other) other = std::move(file);
  }
  if (!wanted.id.empty())
    if (auto file = find_by_identity(wanted.id, around)) return file;
  if (other)
    context.report(FindingCode::chain_parent_changed, Severity::warning, {},
                   fmt::format("{} has the parent's name, but not the identity the child was made "
                               "on ({})",
                               for_terminal(other->place), for_terminal(wanted.id)),
                   "it is used; if it was changed since, blocks of both do not fit together");
  return other;
}

}  // namespace

std::optional<FoundFile> find_file(std::string_view written, const Surroundings& around) {
  std::vector<std::string> parts = parts_of(written);
  if (parts.empty() || parts.size() > kMaxNames) return std::nullopt;
  bool outside = leads_outside(written);
  // What climbs is looked for by what follows the climb.
  const auto climb = std::find(parts.rbegin(), parts.rend(), "..");
  if (climb != parts.rend()) {
    parts.erase(parts.begin(), climb.base());
    outside = true;
  }
  std::optional<FoundFile> result;
  for (std::size_t from = 0; from < parts.size() && !result; ++from) {
    std::string name = parts[from];
    for (std::size_t i = from + 1; i < parts.size(); ++i) name += "/" + parts[i];
    each_folder(around, [&](const std::shared_ptr<const Neighbours>& folder, const char* where) {
      if (!result)
        result = found(
            folder, name,
            fmt::format("{} {}", outside || from > 0 ? "the end of its path" : "its name", where),
            around);
    });
  }
  return result;
}

std::optional<FoundFile> find_by_identity(const std::string& id, const Surroundings& around) {
  std::optional<FoundFile> result;
  each_folder(around, [&](const std::shared_ptr<const Neighbours>& folder, const char* where) {
    if (result) return;
    std::size_t tried = 0;
    for (const std::string& name : folder->names()) {
      if (result || ++tried > kMaxCandidates) return;
      const auto file = folder->open(name);
      if (!file) continue;
      const std::vector<std::string> ids = identities(*file);
      if (std::find(ids.begin(), ids.end(), id) != ids.end())
        result = found(folder, name, fmt::format("its identity is the one asked for, {}", where),
                       around);
    }
  });
  return result;
}

Parent open_parent(const ParentWanted& wanted, const Surroundings& around, const Context& context) {
  if (around.opening.size() >= kLongestChain)
    throw Error(ErrorCode::refused, context.address, std::nullopt,
                fmt::format("the chain of parents is longer than {}", kLongestChain),
                "open the file nearest to the base that is needed by itself");
  const auto chosen = choose_parent(wanted, around, context);
  if (!chosen) return missing_parent(wanted, context, "no such file beside the image");
  if (std::find(around.opening.begin(), around.opening.end(), chosen->place) !=
      around.opening.end())
    throw Error(ErrorCode::refused, context.address, std::nullopt,
                fmt::format("the chain of parents comes back to {}", for_terminal(chosen->place)),
                "open the link that is needed with ::bytes, or put the right parent beside it");
  Surroundings next = chosen->around;
  next.opening.push_back(chosen->place);
  const Context own = context.at(chosen->place);
  Container below;
  try {
    if (wanted.raw)
      below.flat = chosen->file;
    else
      below = open_container(chosen->file, next, own);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::refused || error.code() == ErrorCode::stopped) throw;
    return missing_parent(wanted, context, error.what());
  }
  context.report(FindingCode::chain_parent_taken, Severity::note, {},
                 fmt::format("parent (backing file) {}", for_terminal(chosen->place)),
                 "taken since: " + chosen->why);
  Parent parent;
  parent.flat = below.flat;
  parent.chain.push_back({chosen->place, below.format, below.id, chosen->why, false});
  parent.chain.insert(parent.chain.end(), below.chain.begin(), below.chain.end());
  return parent;
}

std::vector<std::string> identities(const SourcePtr& file) {
  std::vector<std::string> ids;
  for (const auto identity_of : {vdi_identity, vhd_identity, vhdx_identity, vmdk_identity})
    if (auto id = identity_of(*file)) ids.push_back(std::move(*id));
  return ids;
}

}  // namespace lantern
