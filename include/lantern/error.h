// Error: the one exception of the library, thrown only where it cannot go on.
// Damage that can be read past is a Finding (finding.h); absence is an empty optional.
//
//   try {
//     session.open(address);
//   } catch (const Error& error) {
//     std::cerr << error.what() << '\n';
//   }
//
// Thread-safety: an Error is a value.
#pragma once

#include <cstdint>
#include <initializer_list>
#include <optional>
#include <stdexcept>
#include <string>
#include <utility>
#include <variant>
#include <vector>

namespace lantern {

// Named by what the caller can do about it.
enum class ErrorCode {
  usage,        // the request itself is wrong: ask differently
  not_found,    // nothing has that name: choose another
  cannot_open,  // the source is missing, not permitted or of no known kind
  cannot_read,  // the layer is too damaged to be read at all
  unsupported,  // understood, but not read yet
  refused,      // refused for safety
  stopped,      // stopped by the user or by a full disk: can go on
  cannot_write  // the destination does not take it
};

// What a user can do, and what they can say in doing it. An interface has its own words for each.
enum class Do {
  disks,
  survey,
  machines,
  list,
  list_deleted,
  list_versions,
  list_ids,
  show,
  extract,
  extract_deleted,
  image,
  image_as_qcow2,
  sector,      // argument: a structure
  plan,        // a repair that is planned and not made
  plan_again,  // without the plan that was given
  plan_as_json,
  apply,        // argument: numbers of fixes
  set_field,    // argument: a field and its value, or none
  write_bytes,  // at a byte
  undo,         // argument: a journal, or none
  search_folder,
  allow_devices,
  manifest,
  match,
  journal,
  scratch,
  child,  // a repair made in a new image on top
  every_sector,
  sweep,
  survey_search,  // survey, with a folder to search for what is missing
  override_suspended,
  override_lock_file,
  mounts,
  take_damaged_journal,
  machine_sectors,  // argument: bytes of a sector
  check_maps,       // argument: a folder
  map,
  machines_deleted,
  verify,  // argument: a manifest
  with,    // a further source
  key_file,
  ask_key,
  array,  // an array by hand
  serves
};

// One of them, with what it is done to.
struct Action {
  Do what{};
  std::vector<std::string> arguments;
};

// A text that names actions: {Do::survey, " shows what is there"}.
class Advice {
 public:
  using Part = std::variant<std::string, Action>;
  // Of an initializer list: text, an action, or one without arguments.
  struct Word {
    Word(const char* text) : part(std::string(text)) {}
    Word(std::string text) : part(std::move(text)) {}
    Word(Do what) : part(Action{what, {}}) {}
    Word(Action action) : part(std::move(action)) {}
    Part part;
  };

  Advice() = default;
  Advice(const char* text) : Advice(std::string(text)) {}
  Advice(std::string text);
  Advice(std::initializer_list<Word> words);

  bool empty() const { return parts_.empty(); }
  const std::vector<Part>& parts() const { return parts_; }
  // In words of no interface: "survey shows what is there".
  std::string text() const;
  friend bool operator==(const Advice& a, const Advice& b) { return a.text() == b.text(); }

 private:
  std::vector<Part> parts_;
};

class Error : public std::runtime_error {
 public:
  // `address`: the layer spoken of. `offset`: byte offset within that layer, when there is one.
  // `next_step`: what the user can do now, or empty.
  Error(ErrorCode code, std::string address, std::optional<std::uint64_t> offset,
        const std::string& what, Advice next_step = {});

  ErrorCode code() const { return code_; }
  const std::string& address() const { return address_; }
  std::optional<std::uint64_t> offset() const { return offset_; }
  // What happened, and where, without the next step; what() is both.
  std::string line() const;
  const Advice& next_step() const { return next_step_; }

 private:
  ErrorCode code_;
  std::string address_;
  std::optional<std::uint64_t> offset_;
  std::string what_;
  Advice next_step_;
};

}  // namespace lantern
