#include "cli/survey/sets.h"

#include <fmt/format.h>

#include <algorithm>
#include <ostream>

#include "cli/output.h"

namespace lantern::cli {
namespace {

Meaning meaning_of(SetState state) {
  switch (state) {
    case SetState::complete:
      return Meaning::good;
    case SetState::degraded:
      return Meaning::deleted;
    default:
      return Meaning::damaged;
  }
}

Meaning meaning_of(MemberState state) {
  switch (state) {
    case MemberState::active:
    case MemberState::spare:
    case MemberState::journal:
      return Meaning::plain;
    case MemberState::missing:
    case MemberState::failed:
    case MemberState::unknown:
      return Meaning::damaged;
    default:
      return Meaning::deleted;
  }
}

// Of this volume, or of what lies in it.
bool is_in(const SurveySet::Volume& volume, const std::string& address) {
  return !volume.address.empty() &&
         (address == volume.address || address.starts_with(volume.address + "::"));
}

bool holds(const SurveySet& set, const std::string& address) {
  return std::any_of(set.volumes.begin(), set.volumes.end(),
                     [&](const SurveySet::Volume& volume) { return is_in(volume, address); });
}

class Tree {
 public:
  Tree(const Job& job, const SurveyReport& report) : job_(job), report_(report) {}

  void print() {
    if (!report_.sets.empty()) job_.streams.out << '\n';
    for (const SurveySet& set : report_.sets)
      if (lies_in(set) == nullptr) print_set(set, 1);
  }

 private:
  // The set in one of whose volumes a set lies, with all its members.
  const SurveySet* lies_in(const SurveySet& set) const {
    for (const SurveySet& other : report_.sets) {
      const bool in_it =
          std::any_of(set.members.begin(), set.members.end(), [&](const SpanMember& member) {
            return !member.address.empty() && holds(other, member.address);
          });
      if (&other != &set && in_it) return &other;
    }
    return nullptr;
  }

  void line(std::size_t depth, const std::string& text) {
    job_.streams.out << std::string(2 * depth, ' ') << text << '\n';
  }

  void print_set(const SurveySet& set, std::size_t depth) {
    const std::string kind = set.format == "md" ? "array" : set.format == "lvm" ? "group" : "set";
    const bool opened = !set.address.empty();
    line(depth,
         coloured(job_.streams, Meaning::heading,
                  fmt::format("{} {}", kind, for_terminal(set.name.empty() ? set.id : set.name))) +
             fmt::format("  {}  ", for_terminal(set.detail)) +
             (opened ? coloured(job_.streams, meaning_of(set.state), to_string(set.state))
                     : std::string("not put together here")));
    for (const SpanMember& member : set.members) print_member(set, member, depth + 1);
    for (const SurveySet::Volume& volume : set.volumes)
      if (!volume.hidden) print_volume(set, volume, depth + 1);
    if (!set.versions.empty())
      line(depth + 1, coloured(job_.streams, Meaning::quiet,
                               fmt::format("{} before this one, number {} to {}",
                                           counted(set.versions.size(), "description"),
                                           set.versions.back().id, set.versions.front().id)));
  }

  void print_member(const SurveySet& set, const SpanMember& member, std::size_t depth) {
    const std::string place = member.slot ? fmt::format("{:>2}", *member.slot) : std::string("  ");
    std::string text = fmt::format("{}  {}", place,
                                   member.address.empty() ? std::string("not among the sources")
                                                          : for_terminal(member.address));
    if (!set.address.empty())
      text += "  " + coloured(job_.streams, meaning_of(member.state), to_string(member.state));
    if (!member.detail.empty())
      text += "  " + coloured(job_.streams, Meaning::quiet, for_terminal(member.detail));
    line(depth, text);
  }

  void print_volume(const SurveySet& set, const SurveySet::Volume& volume, std::size_t depth) {
    const bool array = set.format == "md";
    const std::string name = volume.address.empty() ? volume.name
                             : Address::parse(volume.address).steps.empty()
                                 ? volume.name
                                 : print_step(last_step(volume.address));
    std::string text = "-> " + for_terminal(name);
    if (!array) text += "  " + for_terminal(volume.type);
    if (!array && volume.state != SetState::complete)
      text += "  " + coloured(job_.streams, meaning_of(volume.state), to_string(volume.state));
    for (const std::string& tag : volume.tags) text += "  tag " + for_terminal(tag);
    if (const std::string machine = machine_of(volume); !machine.empty())
      text += "  " + coloured(job_.streams, Meaning::good, "machine " + for_terminal(machine));
    if (!volume.why_not.empty())
      text += "  " + coloured(job_.streams, Meaning::damaged, for_terminal(volume.why_not));
    line(depth, text);
    for (const SurveyLayer& layer : report_.layers) {
      const bool disk = layer.kind == "disk" && layer.format != "raw";
      if (!volume.address.empty() && layer.address == volume.address &&
          (disk || layer.kind == "table"))
        line(depth + 1,
             fmt::format("{}  {}", layer.format,
                         coloured(job_.streams, Meaning::quiet, for_terminal(layer.detail))));
    }
    for (const SurveyVolume& one : report_.volumes) {
      const std::string address = one.layer->address.print();
      if (!is_in(volume, address) || !one.member_of.empty()) continue;
      if (one.content.empty() && one.files == 0) continue;
      std::string content = for_terminal(one.content);
      if (one.layer->file_system()) content += fmt::format(", {}", counted(one.files, "file"));
      if (address != volume.address)
        content = for_terminal(address.substr(volume.address.size() + 2)) + "  " + content;
      line(depth + 1, content);
    }
    for (const SurveySet& other : report_.sets) {
      const bool inside =
          std::any_of(other.members.begin(), other.members.end(), [&](const SpanMember& member) {
            return !volume.address.empty() && (member.address == volume.address ||
                                               member.address.starts_with(volume.address + "::"));
          });
      if (inside && lies_in(other) == &set && depth < 16) print_set(other, depth + 1);
    }
  }

  std::string machine_of(const SurveySet::Volume& volume) const {
    for (const SurveyVolume& one : report_.volumes) {
      const std::string own = one.layer->address.print();
      if (is_in(volume, own) && !one.machine.empty()) return one.machine;
    }
    return {};
  }

  static Step last_step(const std::string& address) { return Address::parse(address).steps.back(); }

  const Job& job_;
  const SurveyReport& report_;
};

}  // namespace

void print_sets(const Job& job, const SurveyReport& report) {
  Tree(job, report).print();
}

bool is_in_a_set(const SurveyReport& report, const std::string& address) {
  return std::any_of(report.sets.begin(), report.sets.end(),
                     [&](const SurveySet& set) { return holds(set, address); });
}

}  // namespace lantern::cli
