// Structures and fields taken over from a healthy disk of the same kind.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/store.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/structure.h"
#include "lantern/text.h"
#include "repair/borrowed_volumes.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/plan/checksums.h"
#include "repair/plan/manual_plan.h"

namespace lantern::repair {
namespace {

struct Wanted {
  std::string structure;
  std::string field;  // empty: all of the structure that is not a disk's own
};

Wanted parse(const std::string& word) {
  const std::size_t dot = word.find('.');
  if (dot == std::string::npos) return {word, {}};
  return {word.substr(0, dot), word.substr(dot + 1)};
}

class CopyPlan {
 public:
  CopyPlan(const Address& source, const Address& healthy, const Session& session)
      : plan_(source, session),
        context_(plan_.trial().fresh().context()),
        from_(session.open_disk(healthy)),
        target_(with_volumes_of(plan_.trial().open(), from_, context_)),
        healthy_(healthy.print()) {}

  RepairPlan run(const std::vector<std::string>& words, const Context& context) {
    for (const std::string& word : words) take(parse(word));
    return plan_.finish(&target_, context);
  }

 private:
  void take(const Wanted& wanted) {
    if (wanted.structure.starts_with("mft"))
      throw Error(ErrorCode::usage, healthy_, std::nullopt,
                  "records of the MFT describe the files of their own volume",
                  "name a structure of the start chain, such as boot:1");
    if (wanted.structure.starts_with("gpt") && from_.disk().table.scheme != "gpt")
      throw Error(ErrorCode::not_found, healthy_, std::nullopt, "has no GPT to copy from",
                  "name a structure that the healthy disk has");
    const Structure there = read_structure(from_, wanted.structure, context_);
    const Structure here = read_structure(target_, wanted.structure, context_);
    if (!wanted.field.empty() && there.find(wanted.field) == nullptr)
      throw Error(ErrorCode::not_found, healthy_, there.offset,
                  fmt::format("{} has no field \"{}\"", there.name, for_terminal(wanted.field)),
                  {Action{Do::sector, {for_terminal(healthy_), there.name}}, " lists them"});
    Bytes after = here.bytes;
    std::vector<Field> changed;
    std::vector<std::string> left;
    for (const Field& field : there.fields) {
      if (!wanted.field.empty() && field.name != wanted.field) continue;
      if (field.place.end() > std::min(here.bytes.size(), there.bytes.size()))
        throw Error(ErrorCode::usage, here.address, here.offset,
                    fmt::format("{}.{} is longer on the healthy disk than there is room for",
                                here.name, field.name),
                    "take it from a disk of the same layout");
      const auto at = static_cast<std::size_t>(field.place.offset);
      const ByteView bytes = slice(there.bytes, at, static_cast<std::size_t>(field.place.length));
      if (std::equal(bytes.begin(), bytes.end(),
                     here.bytes.begin() + static_cast<std::ptrdiff_t>(at)))
        continue;
      if (wanted.field.empty() && is_own(field)) {
        left.push_back(field.name);
        continue;
      }
      store_bytes(after, at, bytes);
      changed.push_back(field);
    }
    if (changed.empty()) {
      plan_.note(fmt::format("{} is the same on both disks",
                             wanted.field.empty() ? here.name : here.name + "." + wanted.field));
      return;
    }
    add_step(here, changed, left, std::move(after));
  }

  // Who the disk is, where its parts lie and how long they are: right on one disk alone.
  static bool is_own(const Field& field) {
    return field.weight == Weight::identity || field.weight == Weight::derived ||
           field.weight == Weight::data || is_of_this_disk(field.name);
  }

  void add_step(const Structure& here, const std::vector<Field>& changed,
                const std::vector<std::string>& left, Bytes after) {
    std::vector<std::string> names;
    names.reserve(changed.size());
    for (const Field& field : changed) names.push_back(here.name + "." + field.name);
    RepairStep step;
    step.code = "copy.field";
    step.what = fmt::format("copies {} from {}", fmt::join(names, ", "), for_terminal(healthy_));
    step.evidence = "asked for; the healthy disk has other bytes there";
    if (!left.empty())
      step.evidence += fmt::format("; different too, and left because each disk has its own: {}",
                                   fmt::join(left, ", "));
    recalculate(plan_.trial(), target_, here, changed, after, step, context_);
    add_changes(step, here.address, here.offset, here.bytes, after);
    plan_.add(std::move(step));
  }

  ManualPlan plan_;
  Context context_;
  Target from_;
  Target target_;
  std::string healthy_;
};

}  // namespace

RepairPlan plan_copy(const Address& source, const Address& healthy,
                     const std::vector<std::string>& what, const Session& session) {
  return CopyPlan(source, healthy, session).run(what, session.context());
}

}  // namespace lantern::repair
