#include "lantern/error.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <array>

namespace lantern {
namespace {

std::string one_line(const std::string& address, std::optional<std::uint64_t> offset,
                     const std::string& what) {
  std::string line = address.empty() ? what : fmt::format("{}: {}", address, what);
  if (offset) line += fmt::format(" (at byte {})", *offset);
  return line;
}

std::string with_next(const std::string& line, const Advice& next_step) {
  return next_step.empty() ? line : line + "; " + next_step.text();
}

// In the order of the enum.
constexpr std::array<std::string_view, 44> kWords = {
    "the list of disks",
    "survey",
    "the search for machines",
    "list",
    "list, with what was deleted",
    "list, with all versions",
    "list, with ids",
    "show",
    "extract",
    "extract, with what was deleted",
    "image",
    "image, as qcow2",
    "structures",
    "the plan",
    "without the plan that was given",
    "a plan as JSON",
    "apply",
    "a field set manually",
    "bytes written manually",
    "undo",
    "a folder to look in",
    "leave to open devices",
    "a manifest's name",
    "a pattern of names",
    "a journal's name",
    "an overlay file",
    "a new image on top",
    "a search of every sector",
    "sweep",
    "survey, with a folder to search",
    "leave to write although its machine is suspended",
    "leave to write although a lock file is there",
    "the list of mounts",
    "leave to use a damaged journal",
    "another size of the sectors that the machine sees",
    "a check of the descriptors in a folder",
    "mapping a disk",
    "machines, deleted ones too",
    "verify",
    "a further source",
    "a key file",
    "a passphrase that is asked for",
    "an array by hand",
    "the list of what is served"};

}  // namespace

Advice::Advice(std::string text) {
  if (!text.empty()) parts_.emplace_back(std::move(text));
}

Advice::Advice(std::initializer_list<Word> words) {
  for (const Word& word : words) parts_.push_back(word.part);
}

std::string Advice::text() const {
  std::string text;
  for (const Part& part : parts_) {
    if (const auto* const words = std::get_if<std::string>(&part)) {
      text += *words;
    } else {
      const Action& action = std::get<Action>(part);
      text += kWords.at(static_cast<std::size_t>(action.what));
      if (!action.arguments.empty()) text += fmt::format(" {}", fmt::join(action.arguments, " "));
    }
  }
  return text;
}

Error::Error(ErrorCode code, std::string address, std::optional<std::uint64_t> offset,
             const std::string& what, Advice next_step)
    : std::runtime_error(with_next(one_line(address, offset, what), next_step)),
      code_(code),
      address_(std::move(address)),
      offset_(offset),
      what_(what),
      next_step_(std::move(next_step)) {}

std::string Error::line() const {
  return one_line(address_, offset_, what_);
}

}  // namespace lantern
