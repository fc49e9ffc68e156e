#include "cli/advice.h"

#include <array>

#include "lantern/text.h"

namespace lantern::cli {
namespace {

// In the order of the enum; a '%' is where the next argument goes, the others follow at the end.
constexpr std::array<std::string_view, 44> kTyped = {"lantern disks",
                                                     "lantern survey",
                                                     "lantern machines",
                                                     "lantern list",
                                                     "lantern list % --deleted",
                                                     "lantern list % --all-versions",
                                                     "lantern list --ids",
                                                     "lantern show",
                                                     "lantern extract % RESCUED",
                                                     "lantern extract % RESCUED --deleted",
                                                     "lantern image",
                                                     "lantern image --as qcow2",
                                                     "lantern sector",
                                                     "lantern repair",
                                                     "lantern repair without --plan",
                                                     "lantern repair SRC --json",
                                                     "--apply",
                                                     "--set",
                                                     "lantern repair SRC --write OFFSET HEX",
                                                     "lantern undo",
                                                     "--search-dir",
                                                     "--allow-devices",
                                                     "--manifest",
                                                     "--match",
                                                     "--journal",
                                                     "--overlay",
                                                     "--into",
                                                     "--every-sector",
                                                     "lantern sweep %",
                                                     "lantern survey % --search-dir FOLDER",
                                                     "--override suspended",
                                                     "--override lock-file",
                                                     "lantern mount --list",
                                                     "--override damaged-journal",
                                                     "--machine-sectors",
                                                     "lantern map --check",
                                                     "lantern map",
                                                     "lantern machines % --deleted",
                                                     "lantern verify",
                                                     "--with",
                                                     "--key-file",
                                                     "--ask-key",
                                                     "lantern array",
                                                     "lantern serve --list"};

}  // namespace

std::string command_for(const Action& action) {
  std::string text;
  auto argument = action.arguments.begin();
  for (const char c : kTyped.at(static_cast<std::size_t>(action.what))) {
    if (c != '%')
      text += c;
    else if (argument != action.arguments.end())
      text += for_shell(*argument++);
  }
  for (; argument != action.arguments.end(); ++argument) text += ' ' + for_shell(*argument);
  return text;
}

std::string advice_text(const Advice& advice) {
  std::string text;
  for (const Advice::Part& part : advice.parts())
    if (const auto* const words = std::get_if<std::string>(&part))
      text += *words;
    else
      text += command_for(std::get<Action>(part));
  return text;
}

std::string error_text(const Error& error) {
  if (error.next_step().empty()) return error.line();
  return error.line() + "; " + advice_text(error.next_step());
}

}  // namespace lantern::cli
