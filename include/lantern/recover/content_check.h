// Content check: whether the bytes of a file hold together, by what its own format keeps: checksums
// that cover every byte, or tables and lengths that must fit.
//
//   const ContentCheck check = check_content(*file, context);
//   if (check.verified) ...
//
// Thread-safety: may be called from any thread.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/container.h"
#include "lantern/contents/structure_state.h"
#include "lantern/context.h"
#include "lantern/json.h"
#include "lantern/nest/target.h"

namespace lantern {

class Untangler;

struct ContentCheck {
  std::string kind;  // "zip", "png", "qcow2", ... as content_kind_words has them; empty: not known
  // Checksums, or an equivalent, cover every byte and hold.
  bool verified = false;
  StructureState structure = StructureState::unknown;
  std::uint64_t length_bytes = 0;       // the true end, when the structure is complete
  std::optional<std::uint64_t> breaks;  // byte where it stops making sense
  std::string why;                      // what holds, or what does not, in words
};

// A file by its content alone. Bytes that cannot be read count as damage. Reads each byte a few
// times at most and keeps little of it. Throws Error{stopped}.
ContentCheck check_content(const ByteSource& bytes, const Context& context);

// A file that is known to be a disk image, a raw one too: its tables, the files it lies on, and the
// file systems inside with their journals. `around`: what may be opened beside it.
ContentCheck check_image(const SourcePtr& bytes, const Surroundings& around,
                         const Context& context);

// Checks the contents of files in a target's volume, a virtual disk with what lies beside it,
// deleted files that lie among each other as they were solved together.
// Thread-safety: belongs to one thread.
class EntryChecker {
 public:
  EntryChecker(const Target& target, const Context& context);
  ~EntryChecker();

  // Of what has no content, or is encrypted, nothing is known.
  ContentCheck check(const Entry& entry);

 private:
  const Target& target_;
  Context context_;
  std::unique_ptr<Untangler> contents_;
};

// The entry as it is known after its content was checked: what is verified is intact.
Entry checked(Entry entry, const ContentCheck& check);
// Members of a JSON object: "verified", "content", "structure", "structure_evidence".
void write_json(JsonWriter& json, const ContentCheck& check);

// The same, when its content is opened already.
ContentCheck check_entry(const Target& target, const Entry& entry, const SourcePtr& bytes,
                         const Context& context);
// Whether a check can tell anything, by the first bytes of the file and its name.
bool is_checked(const ByteSource& bytes, std::string_view name);

// Kinds that check_content knows, in the order of their names.
const std::vector<std::string_view>& checked_kinds();

}  // namespace lantern
