// Address: one line that names any layer of a nest, all the way down.
//
//    FIRST::STEP::STEP...        station.vdi::2::/Keeper/log.txt
//
// FIRST is never unescaped. In steps %HH is one byte; printed addresses escape '%', control bytes,
// invalid UTF-8, '/' within a name, "::" and colons at an edge, so parse(print(a)) == a.
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

namespace lantern {

struct Step {
  enum class Kind {
    volume,          // 2             number
    at,              // at=1048576    number, bytes
    lost,            // lost-3        number
    content,         // content: what a catalog has of files found by their content
    label,           // label=KEEPER  text
    uuid,            // uuid=1A2B-3C4D
    logical_volume,  // lv:group/name
    array,           // md:name
    array_by_hand,   // array=LEVEL[,KEY=VALUE...]: of the disks of a set
    member,          // a file of a folder by name; ./2 when it looks like something else
    path,            // /Keeper/log.txt   components
    entry,           // @1049600
    stream,          // stream=NAME
    version,         // version=ID
    as,              // as=FORMAT[,KEY=VALUE...]: what stands before it, read as that
    bytes            // bytes: not interpreted
  };
  Kind kind{};
  std::uint64_t number = 0;
  std::string text;                     // raw bytes
  std::vector<std::string> components;  // raw bytes; none: the root
  friend bool operator==(const Step&, const Step&) = default;
};

Step volume_step(std::uint64_t number);
Step path_step(std::vector<std::string> components);
Step entry_step(std::string id);

struct Address {
  std::string first;  // raw bytes
  std::vector<Step> steps;

  using Exists = std::function<bool(const std::string&)>;
  // `exists` answers whether the host has such a file: an argument that exists whole is FIRST
  // alone, else the longest prefix before a "::" that exists is FIRST, else what stands before the
  // first
  // "::". Throws Error{usage}.
  static Address parse(std::string_view text, const Exists& exists);
  // With the files of this computer.
  static Address parse(std::string_view text);

  std::string print() const;
  Address with(Step step) const;
  friend bool operator==(const Address&, const Address&) = default;
};

std::string print_step(const Step& step);

}  // namespace lantern
