#include "recover/sweep/finders/marks.h"

#include <fmt/format.h>
#include <hs/hs.h>

#include <algorithm>
#include <new>

#include "contents/likely.h"
#include "lantern/error.h"

namespace lantern {
namespace {

// Kinds that are met by their containers' marks (VolumeFinder), or within those of another kind.
bool is_looked_for(const SignatureKind& kind) {
  return kind.family != "disk" && (!kind.check.empty() || !kind.built_in);
}

class Scratch {
 public:
  Scratch() = default;
  Scratch(const Scratch&) = delete;
  Scratch& operator=(const Scratch&) = delete;
  ~Scratch() { hs_free_scratch(scratch_); }

  hs_scratch* for_database(const hs_database* database) {
    if (hs_alloc_scratch(database, &scratch_) != HS_SUCCESS) throw std::bad_alloc();
    return scratch_;
  }

 private:
  hs_scratch* scratch_ = nullptr;
};

bool is_within_zip(const SignatureKind& kind, const Beginning& beginning) {
  return kind.check == "zip" && beginning.at > 0;
}

}  // namespace

Marks::Marks(const Signatures& signatures) : signatures_(signatures) {
  for (const SignatureKind& kind : signatures_.kinds()) {
    if (!is_looked_for(kind)) continue;
    for (const Beginning& beginning : kind.begins) {
      if (is_within_zip(kind, beginning)) continue;
      const std::string& bytes = beginning.pattern.bytes;
      const auto byte = [&](std::size_t i) {
        return static_cast<std::uint32_t>(static_cast<unsigned char>(bytes[i]));
      };
      if (beginning.at > 0) {
        const bool four = bytes.size() >= 4 && beginning.pattern.fixed.substr(0, 4) == "\1\1\1\1";
        if (!four)
          throw Error(ErrorCode::usage, kind.name, std::nullopt,
                      "a beginning behind byte 0 needs four bytes that are said",
                      "docs/formats/signatures.md describes the form");
        const Head head{beginning.at, byte(0) | byte(1) << 8 | byte(2) << 16 | byte(3) << 24};
        if (std::find(further_heads_.begin(), further_heads_.end(), head) == further_heads_.end())
          further_heads_.push_back(head);
        further_.push_back({&kind, beginning});
        continue;
      }
      at_start_.push_back({&kind, beginning});
      const bool any = bytes.size() < 2 || beginning.pattern.fixed[1] == 0;
      for (std::uint32_t second = any ? 0 : byte(1); second <= (any ? 255 : byte(1)); ++second)
        heads_.set(byte(0) | second << 8);
    }
  }
}

const SignatureKind* Marks::first_of(const std::vector<Mark>& marks, ByteView bytes) const {
  for (const Mark& mark : marks)
    if (mark.beginning.fits(bytes) && kinds::is_likely(mark.kind->check, bytes)) return mark.kind;
  return nullptr;
}

bool Marks::fits(std::size_t bytes) const {
  return std::all_of(further_heads_.begin(), further_heads_.end(),
                     [&](const Head& head) { return head.at + 4 <= bytes; });
}

const SignatureKind* Marks::told(ByteView bytes) const {
  const SignatureKind* const kind = first_of(at_start_, bytes);
  return kind != nullptr ? kind : first_of(further_, bytes);
}

MarksAnywhere::MarksAnywhere(std::shared_ptr<const Marks> marks) : marks_(std::move(marks)) {
  std::vector<std::string> texts;
  for (const SignatureKind& kind : marks_->signatures().kinds()) {
    if (!is_looked_for(kind)) continue;
    for (const Beginning& beginning : kind.begins) {
      // Frames of sound follow each other: each of them would begin a file.
      const bool is_frame = kind.check == "mpeg" && beginning.pattern.size() < 3;
      if (is_within_zip(kind, beginning) || is_frame) continue;
      std::string text;
      for (std::size_t i = 0; i < beginning.pattern.size(); ++i)
        text +=
            beginning.pattern.fixed[i] == 0
                ? "."
                : fmt::format("\\x{:02x}", static_cast<unsigned char>(beginning.pattern.bytes[i]));
      texts.push_back(text);
      patterns_.push_back({&kind, beginning.at + beginning.pattern.size()});
    }
  }
  std::vector<const char*> pointers;
  std::vector<unsigned> flags(texts.size(), HS_FLAG_DOTALL), ids;
  for (unsigned i = 0; i < texts.size(); ++i) {
    pointers.push_back(texts[i].c_str());
    ids.push_back(i);
  }
  hs_compile_error_t* error = nullptr;
  if (hs_compile_multi(pointers.data(), flags.data(), ids.data(),
                       static_cast<unsigned>(texts.size()), HS_MODE_BLOCK, nullptr, &database_,
                       &error) != HS_SUCCESS) {
    const std::string why = error == nullptr ? "not known" : error->message;
    hs_free_compile_error(error);
    throw Error(ErrorCode::unsupported, "signatures", std::nullopt,
                "cannot be looked for at any byte: " + why, "leave out --unaligned");
  }
}

MarksAnywhere::~MarksAnywhere() {
  hs_free_database(database_);
}

void MarksAnywhere::each(ByteView bytes, std::size_t owned,
                         const std::function<bool(std::size_t, const SignatureKind&)>& use) const {
  struct Search {
    const MarksAnywhere& marks;
    ByteView bytes;
    std::size_t owned;
    const std::function<bool(std::size_t, const SignatureKind&)>& use;
  };
  // One for a thread: making it takes longer than to look through a piece.
  static thread_local Scratch scratches;
  hs_scratch* const scratch = scratches.for_database(database_);
  Search search{*this, bytes, owned, use};
  hs_scan(
      database_, reinterpret_cast<const char*>(bytes.data()), static_cast<unsigned>(bytes.size()),
      0, scratch,
      [](unsigned id, unsigned long long, unsigned long long to, unsigned, void* context) {
        const Search& own = *static_cast<Search*>(context);
        const Pattern& pattern = own.marks.patterns_[id];
        if (to < pattern.back) return 0;
        const auto start = static_cast<std::size_t>(to - pattern.back);
        if (start >= own.owned || !kinds::is_likely(pattern.kind->check, own.bytes.subspan(start)))
          return 0;
        return own.use(start, *pattern.kind) ? 0 : 1;
      },
      &search);
}

}  // namespace lantern
