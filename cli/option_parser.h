// What a command takes, and reading it from its words. The one file that knows the parsing library
// is option_parser.cpp: its header costs seconds in each file that includes it.
//
//   Command command = parser.command("demo", "writes the demo disks of Skerrow Light");
//   command.option("DIR", folder, "the folder to write them to").required();
//
// What is given is written to the variables named, which live as long as the parser.
#pragma once

#include <cstdint>
#include <iosfwd>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace CLI {
class App;
class Option;
}  // namespace CLI

namespace lantern::cli {

// An option that was added, to say more of it.
class OptionHandle {
 public:
  explicit OptionHandle(CLI::Option& option) : option_(&option) {}

  OptionHandle required() const;
  OptionHandle one_of(const std::vector<std::string>& words) const;
  OptionHandle between(double least, double most) const;  // both included
  OptionHandle values(int least, int most) const;         // how many words it takes
  OptionHandle shown_as(const std::string& values) const;
  // Whether it was among the words that were parsed.
  bool given() const;

 private:
  CLI::Option* option_;
};

class Command {
 public:
  explicit Command(CLI::App& app) : app_(&app) {}

  // `name` begins with "--", or is that of a positional.
  void flag(const std::string& name, bool& value, const std::string& help) const;
  OptionHandle option(const std::string& name, std::string& value, const std::string& help) const;
  OptionHandle option(const std::string& name, std::vector<std::string>& values,
                      const std::string& help) const;
  OptionHandle option(const std::string& name, std::uint32_t& value, const std::string& help) const;
  OptionHandle option(const std::string& name, std::uint64_t& value, const std::string& help) const;
  OptionHandle option(const std::string& name, double& value, const std::string& help) const;
  // Of what is added from here on. What stands under kForEvery comes last, whenever it was added.
  static constexpr const char* kOwn = "Options";
  static constexpr const char* kForEvery = "For every command";
  void heading(const std::string& title) const;
  void footer(const std::string& text) const;

 private:
  CLI::App* app_;
};

class OptionParser {
 public:
  OptionParser(const std::string& what, const std::string& version, const std::string& footer);
  ~OptionParser();

  Command command(const std::string& name, const std::string& what);
  // The name of the command that `words` give, its variables filled. Empty when they ask for help
  // or version, which goes to `out`. Throws Error{usage}.
  std::optional<std::string> parse(const std::vector<std::string>& words, std::ostream& out);

 private:
  std::unique_ptr<CLI::App> app_;
  std::vector<std::string> names_;  // of the commands
};

}  // namespace lantern::cli
