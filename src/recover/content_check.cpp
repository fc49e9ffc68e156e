#include "lantern/recover/content_check.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/kinds/content_kind.h"
#include "base/kinds/signatures.h"
#include "contents/kinds.h"
#include "lantern/error.h"
#include "lantern/format/registry.h"
#include "lantern/machines.h"
#include "lantern/nest/session.h"
#include "nest/opening/entry_folder.h"
#include "recover/machines/machine_folder.h"
#include "recover/untangle.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxEntries = 200'000;  // of the file systems in a virtual disk

constexpr std::size_t kStart = 512;  // bytes; every mark of a kind or a container is in them

Bytes start_of(const ByteSource& bytes, std::size_t length = kStart) {
  Bytes start(length);
  start.resize(bytes.read(0, start).length);
  return start;
}

// Kinds without anything that bears out a file's content by itself.
bool has_structure(std::string_view check) {
  return !check.empty() && check != "text" && check != "mail";
}

// Null: it is of no kind that is checked.
const SignatureKind* kind_of(ByteView start) {
  const SignatureKind* const kind = Signatures::built_in().marked(start);
  return kind != nullptr && has_structure(kind->check) ? kind : nullptr;
}

// What the file systems of a disk say of themselves: each is opened, and its folders are walked.
// Empty: nothing is wrong.
std::string wrong_inside(const DiskLayer& disk, const FindingSink& findings, bool& any) {
  for (const VolumePtr& volume : disk.volumes.all()) {
    const auto& files = volume->file_system();
    if (!files) continue;
    any = true;
    std::uint64_t seen = 0;
    files->walk(
        {}, [&](const Entry&) { return ++seen < kMaxEntries ? WalkStep::go_on : WalkStep::stop; });
    files->used_bytes();
  }
  for (const FindingGroup& group : findings.groups())
    if (group.severity == Severity::damage) return group.findings.front().message;
  return {};
}

// By its first bytes, or by a name of those that are known by their last ones alone.
bool may_be_image(ByteView start, std::string_view name) {
  if (start.size() < kStart) return machine_file_name(name) == MachineFileName::disk;
  bool marked = false;
  known_formats().marks_of(start.data(), [&](const Format& format) {
    marked = marked || format.kind == FormatKind::container;
  });
  return marked || machine_file_name(name) == MachineFileName::disk;
}

}  // namespace

ContentCheck check_content(const ByteSource& bytes, const Context& context) {
  ContentCheck check;
  const SignatureKind* const kind = kind_of(start_of(bytes));
  if (kind == nullptr) return check;
  // Documents are told apart by what lies in them.
  check.kind = kind->name == "zip" ? content_kind(start_of(bytes, kKindBytes)) : kind->name;
  kinds::KindReader file(bytes, context);
  try {
    const kinds::Held held = kinds::check_by_name(kind->check)(file);
    check.structure = StructureState::complete;
    check.length_bytes = held.length_bytes;
    // Bytes behind its end are covered by nothing.
    check.verified = held.verified && held.length_bytes == bytes.size();
    check.why = held.why;
  } catch (const kinds::Break& met) {
    check.structure = met.structure;
    check.breaks = met.at;
    check.why = fmt::format("byte {}: {}", met.at, met.why);
  }
  return check;
}

Entry checked(Entry entry, const ContentCheck& check) {
  if (!check.verified) return entry;
  entry.intact = 1;
  entry.evidence += (entry.evidence.empty() ? "" : "; ") + check.why;
  return entry;
}

void write_json(JsonWriter& json, const ContentCheck& check) {
  json.key("verified").value(check.verified).key("content");
  check.kind.empty() ? json.null() : json.value(check.kind);
  json.key("structure");
  check.structure == StructureState::unknown ? json.null() : json.value(to_string(check.structure));
  json.key("structure_evidence").value(check.why);
}

bool is_checked(const ByteSource& bytes, std::string_view name) {
  const Bytes start = start_of(bytes);
  return kind_of(start) != nullptr || may_be_image(start, name);
}

ContentCheck check_entry(const Target& target, const Entry& entry, const SourcePtr& bytes,
                         const Context& context) {
  const Bytes start = start_of(*bytes);
  if (!may_be_image(start, entry.path.back())) return check_content(*bytes, context);
  Surroundings around;
  around.name = entry.path.back();
  around.beside = EntryFolder::beside(target.volume, entry, entry.state != EntryState::active);
  return check_image(bytes, around, context);
}

EntryChecker::EntryChecker(const Target& target, const Context& context)
    : target_(target),
      context_(context),
      contents_(std::make_unique<Untangler>(target.file_system(), context)) {}

EntryChecker::~EntryChecker() = default;

ContentCheck EntryChecker::check(const Entry& entry) {
  if (entry.kind != EntryKind::file || entry.size_bytes == 0) return {};
  try {
    return check_entry(target_, entry, contents_->open(entry).bytes, context_);
  } catch (const Error& error) {
    if (error.code() != ErrorCode::unsupported) throw;
    return {};  // encrypted
  }
}

ContentCheck check_image(const SourcePtr& bytes, const Surroundings& around,
                         const Context& context) {
  ContentCheck check;
  check.length_bytes = bytes->size();
  const OpenedImage opened = open_image(bytes, around, context);
  if (!opened.container.flat || !opened.problem.empty()) {
    check.structure =
        opened.container.flat ? StructureState::contradictory : StructureState::unknown;
    check.why = opened.problem;
    return check;
  }
  check.kind = opened.container.format;
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  bool any = false;
  try {
    const DiskPtr disk = Session({}, quiet).open_bytes(bytes, Address{"content", {}}, around);
    check.why = wrong_inside(*disk, *quiet.findings, any);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    check.why = error.what();
  }
  const bool raw = check.kind == "raw";
  check.structure = !check.why.empty() ? StructureState::contradictory
                    : raw && !any      ? StructureState::unknown
                                       : StructureState::complete;
  if (check.why.empty())
    check.why = any   ? "its tables fit, and the file systems in it"
                : raw ? "no file system was found in it"
                      : "its tables fit; no file system was found in it";
  return check;
}

const std::vector<std::string_view>& checked_kinds() {
  static const std::vector<std::string_view> names = [] {
    std::vector<std::string_view> all;
    for (const SignatureKind& kind : Signatures::built_in().kinds())
      if (has_structure(kind.check)) all.push_back(kind.name);
    return all;
  }();
  return names;
}

}  // namespace lantern
