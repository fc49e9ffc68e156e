// How entries look, as rows and as JSON: the same for every command that lists them.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "cli/output.h"

namespace lantern::cli {

// "rwxr-xr-x" with set-id and sticky bits.
std::string mode_text(std::uint32_t mode);

// "folder", "link", "device 5,17", or empty for a file.
std::string kind_text(const Entry& entry);

// "as it was 2026-03-14T08:30:02Z: disk.img::1::version=2"
std::string version_text(const Address& address, const DiskVersion& version);

enum class RowForm { plain, detailed, tree };

// Whether every volume is meant, asked for or not: a catalog without a volume is all that is in it.
bool means_every_volume(bool asked, const Address& address);
// The volume the address names, or every one of the disk that can be read, in the order of its
// table. Throws Error{cannot_read} when none can.
std::vector<Target> every_volume(const Address& address, const Session& session);

struct RowOptions {
  RowForm form = RowForm::plain;
  bool exact = false;  // sizes in bytes
  bool ids = false;
  bool content = false;        // what a check of it says
  bool addresses = false;      // behind the paths
  bool names = false;          // of what is no folder only its own name
  std::size_t tree_depth = 0;  // names before where the tree begins
};

std::string row_head(const RowOptions& options);
// A line without its end, in the colour of what it says; broken where the terminal is narrower.
std::string row(const Streams& streams, const VolumeLayer& volume, const Entry& entry,
                const RowOptions& options, const ContentCheck& check = {});

// The entry goes through `use` as it is known after its content was checked; null: not asked for.
void with_check(EntryChecker* checker, const Entry& entry,
                const std::function<void(const Entry&, const ContentCheck&)>& use);
// An entry as JSON, and its check where there was one.
void write_json(JsonWriter& json, const Target& target, const Entry& entry, EntryChecker* checker);
// Of what is listed, when it is asked for.
std::unique_ptr<EntryChecker> checker_for(const Target& target, bool verify,
                                          const Context& context);

}  // namespace lantern::cli
