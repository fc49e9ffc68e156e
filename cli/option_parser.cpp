#include "cli/option_parser.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <sstream>

#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern::cli {
namespace {

// "did you mean X", or `otherwise` when none of the names is near.
std::string near_miss(const std::string& word, const std::vector<std::string>& names,
                      const std::string& otherwise) {
  const std::string best = nearest_name(word, names);
  return best.empty() ? otherwise : "did you mean " + best + "?";
}

// A command's own options before those that every command has.
class OwnFirst final : public CLI::Formatter {
 public:
  std::string make_help(const CLI::App* app, std::string name,
                        CLI::AppFormatMode mode) const override {
    std::string text = CLI::Formatter::make_help(app, std::move(name), mode);
    const std::size_t from = text.find(std::string(Command::kForEvery) + ":\n");
    const std::size_t end = from == std::string::npos ? from : text.find("\n\n", from);
    if (end == std::string::npos) return text;
    const std::string block = text.substr(from, end + 2 - from);
    // With the blank line before it.
    text.erase(from - 1, block.size());
    const std::string footer = app->get_footer();
    const std::size_t to = footer.empty() ? std::string::npos : text.rfind(footer);
    return text.insert(std::min(to, text.size()), block);
  }
};

// Of the command that was being read when an option was not known.
std::vector<std::string> options_of(const CLI::App& app) {
  std::vector<std::string> names;
  for (const CLI::App* command : app.get_subcommands())
    for (const CLI::Option* option : command->get_options())
      for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
  return names;
}

}  // namespace

OptionHandle OptionHandle::required() const {
  option_->required();
  return *this;
}

OptionHandle OptionHandle::one_of(const std::vector<std::string>& words) const {
  option_->check(CLI::IsMember(words));
  return *this;
}

OptionHandle OptionHandle::between(double least, double most) const {
  option_->check(CLI::Range(least, most));
  return *this;
}

OptionHandle OptionHandle::values(int least, int most) const {
  option_->expected(least, most);
  return *this;
}

OptionHandle OptionHandle::shown_as(const std::string& values) const {
  option_->type_name(values);
  return *this;
}

bool OptionHandle::given() const {
  return option_->count() > 0;
}

void Command::flag(const std::string& name, bool& value, const std::string& help) const {
  app_->add_flag(name, value, help);
}

OptionHandle Command::option(const std::string& name, std::string& value,
                             const std::string& help) const {
  return OptionHandle(*app_->add_option(name, value, help));
}

OptionHandle Command::option(const std::string& name, std::vector<std::string>& values,
                             const std::string& help) const {
  return OptionHandle(*app_->add_option(name, values, help));
}

OptionHandle Command::option(const std::string& name, std::uint32_t& value,
                             const std::string& help) const {
  return OptionHandle(*app_->add_option(name, value, help));
}

OptionHandle Command::option(const std::string& name, std::uint64_t& value,
                             const std::string& help) const {
  return OptionHandle(*app_->add_option(name, value, help));
}

OptionHandle Command::option(const std::string& name, double& value,
                             const std::string& help) const {
  return OptionHandle(*app_->add_option(name, value, help));
}

void Command::heading(const std::string& title) const {
  app_->option_defaults()->group(title);
}

void Command::footer(const std::string& text) const {
  app_->footer(text);
}

OptionParser::OptionParser(const std::string& what, const std::string& version,
                           const std::string& footer)
    : app_(std::make_unique<CLI::App>(what, "lantern")) {
  app_->require_subcommand(1);
  app_->set_version_flag("--version", version);
  app_->footer(footer);
  app_->formatter(std::make_shared<OwnFirst>());  // its commands inherit it
}

OptionParser::~OptionParser() = default;

Command OptionParser::command(const std::string& name, const std::string& what) {
  names_.push_back(name);
  return Command(*app_->add_subcommand(name, what));
}

std::optional<std::string> OptionParser::parse(const std::vector<std::string>& words,
                                               std::ostream& out) {
  // "help image" is "image --help".
  if (!words.empty() && words.front() == "help") {
    std::vector<std::string> asked(words.begin() + 1, words.end());
    asked.emplace_back("--help");
    return parse(asked, out);
  }
  const auto first = std::find_if(words.begin(), words.end(),
                                  [](const std::string& word) { return !word.starts_with('-'); });
  if (first != words.end() && std::find(names_.begin(), names_.end(), *first) == names_.end())
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("there is no command \"{}\"", *first),
                near_miss(*first, names_, "see lantern --help"));
  std::vector<std::string> reversed(words.rbegin(), words.rend());
  try {
    app_->parse(reversed);
  } catch (const CLI::ParseError& error) {
    if (error.get_exit_code() != 0) {
      const std::vector<std::string> known = options_of(*app_);
      std::string next = "see lantern --help";
      for (const std::string& word : words) {
        const std::string name = word.substr(0, word.find('='));
        if (name.starts_with("--") && std::find(known.begin(), known.end(), name) == known.end())
          next = near_miss(name, known, next);
      }
      throw Error(ErrorCode::usage, {}, std::nullopt, error.what(), next);
    }
    std::ostringstream nothing;
    app_->exit(error, out, nothing);  // --help, --version
    return std::nullopt;
  }
  return app_->get_subcommands().front()->get_name();
}

}  // namespace lantern::cli
