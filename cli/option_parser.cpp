#include "cli/option_parser.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <sstream>

#include "lantern/error.h"

namespace lantern::cli {

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
}

OptionParser::~OptionParser() = default;

Command OptionParser::command(const std::string& name, const std::string& what) {
  names_.push_back(name);
  return Command(*app_->add_subcommand(name, what));
}

std::optional<std::string> OptionParser::parse(const std::vector<std::string>& words,
                                               std::ostream& out) {
  const auto first = std::find_if(words.begin(), words.end(),
                                  [](const std::string& word) { return !word.starts_with('-'); });
  if (first != words.end() && std::find(names_.begin(), names_.end(), *first) == names_.end())
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("there is no command \"{}\"", *first), "see lantern --help");
  std::vector<std::string> reversed(words.rbegin(), words.rend());
  try {
    app_->parse(reversed);
  } catch (const CLI::ParseError& error) {
    if (error.get_exit_code() != 0)
      throw Error(ErrorCode::usage, {}, std::nullopt, error.what(), "see lantern --help");
    std::ostringstream nothing;
    app_->exit(error, out, nothing);  // --help, --version
    return std::nullopt;
  }
  return app_->get_subcommands().front()->get_name();
}

}  // namespace lantern::cli
