#include "lantern/search.h"

#include <regex.h>

#include <algorithm>
#include <memory>

#include "base/kinds/content_kind.h"
#include "filesystem/named_walk.h"
#include "lantern/error.h"
#include "lantern/extraction.h"
#include "lantern/text.h"

namespace lantern {
namespace {

class Expression {
 public:
  explicit Expression(const std::string& text) {
    if (text.empty()) return;
    const int failed = ::regcomp(&compiled_, text.c_str(), REG_EXTENDED | REG_NOSUB | REG_ICASE);
    if (failed != 0) {
      std::string why(256, '\0');
      why.resize(::regerror(failed, &compiled_, why.data(), why.size()) - 1);
      throw Error(ErrorCode::usage, {}, std::nullopt,
                  "\"" + text + "\" is not a valid regular expression: " + why,
                  "for example: '/2026-.*[.]jpg$'");
    }
    given_ = true;
  }
  ~Expression() {
    if (given_) ::regfree(&compiled_);
  }
  Expression(const Expression&) = delete;
  Expression& operator=(const Expression&) = delete;

  bool matches(const std::string& text) const {
    return !given_ || ::regexec(&compiled_, text.c_str(), 0, nullptr, 0) == 0;
  }

 private:
  regex_t compiled_{};
  bool given_ = false;
};

bool facts_match(const SearchOptions& options, const Entry& entry) {
  if (options.least_bytes && entry.size_bytes < *options.least_bytes) return false;
  if (options.most_bytes && entry.size_bytes > *options.most_bytes) return false;
  if ((options.least_bytes || options.most_bytes) && entry.kind != EntryKind::file) return false;
  if (options.modified_from &&
      (!entry.modified || entry.modified->seconds < *options.modified_from))
    return false;
  if (options.modified_to && (!entry.modified || entry.modified->seconds >= *options.modified_to))
    return false;
  return entry.intact.value_or(0) >= options.least_intact;
}

bool kind_matches(const SearchOptions& options, const FileSystem& files, const Entry& entry) {
  if (options.kinds.empty()) return true;
  const auto names_entry = [&](const std::string& word) {
    return equal_ignoring_case(word, to_string(entry.kind));
  };
  if (std::any_of(options.kinds.begin(), options.kinds.end(), names_entry)) return true;
  if (entry.kind != EntryKind::file || entry.size_bytes == 0) return false;
  Bytes start(static_cast<std::size_t>(std::min<std::uint64_t>(entry.size_bytes, kKindBytes)));
  try {
    start.resize(files.open(entry).bytes->read(0, start).length);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::unsupported) return false;  // encrypted
    throw;
  }
  const std::string_view kind = content_kind(start);
  if (kind.empty()) return false;
  return std::any_of(options.kinds.begin(), options.kinds.end(), [&](const std::string& word) {
    const std::vector<std::string_view> meant = content_kinds(word);
    return std::find(meant.begin(), meant.end(), kind) != meant.end();
  });
}

void refuse_unknown_kinds(const SearchOptions& options) {
  constexpr std::string_view kEntries =
      "file, folder, link, character-device, block-device, pipe, socket";
  for (const std::string& word : options.kinds) {
    const bool of_entry =
        (", " + std::string(kEntries) + ",").find(", " + word + ",") != std::string::npos;
    if (!of_entry && content_kinds(word).empty())
      throw Error(
          ErrorCode::usage, {}, std::nullopt, "there is no kind \"" + word + "\"",
          "kinds of content: " + content_kind_words() + "; of entries: " + std::string(kEntries));
  }
}

// A pattern that every name fits that fits the patterns: '*' stands for all that more is to be
// known of. Empty: nothing is known of the names.
std::string loosened(const std::vector<std::string>& patterns) {
  if (patterns.size() != 1 || patterns.front().find('/') != std::string::npos) return {};
  std::string loose;
  for (const char c : patterns.front()) {
    // Brackets and escapes end what is known; letters that are not of ASCII have cases of their
    // own.
    if (c == '[' || c == '\\') return loose + '*';
    const bool open = c == '*' || c == '?' || c < 0;
    if (!open || loose.empty() || loose.back() != '*') loose += open ? '*' : c;
  }
  return loose;
}

// Whether any of its content, or of a stream of its own, ends in a place that cannot be read.
bool touches_unreadable(const Target& target, const FileSystem& files, const Entry& entry) {
  if (entry.kind != EntryKind::file) return false;
  std::vector<std::string> contents = {""};
  for (const Stream& stream : files.streams(entry)) contents.push_back(stream.name);
  bool touches = false;
  for (const std::string& name : contents) {
    try {
      const Content content = files.open(entry, name);
      follow_down(target, *content.bytes, [&](const LayeredExtent& part) {
        touches = part.extent.kind == ExtentKind::unreadable;
        return !touches;
      });
    } catch (const Error& error) {
      if (error.code() != ErrorCode::unsupported) throw;  // encrypted
    }
    if (touches) break;
  }
  return touches;
}

}  // namespace

void search(const Target& target, const SearchOptions& options,
            const std::function<bool(const Entry&)>& visit) {
  const Expression expression(options.expression);
  refuse_unknown_kinds(options);
  const FileSystem& files = target.file_system();
  WalkOptions walk;
  walk.active = options.active;
  walk.deleted = options.deleted;
  walk.order = options.order;
  const EntryVisitor take = [&](const Entry& entry) {
    const bool answers =
        matches_any(options.patterns, entry.path) && facts_match(options, entry) &&
        (options.expression.empty() || expression.matches(path_text(entry.path))) &&
        kind_matches(options, files, entry) &&
        (!options.touches_unreadable || touches_unreadable(target, files, entry));
    if (answers && !visit(entry)) return WalkStep::stop;
    return WalkStep::go_on;
  };
  const auto* const by_name = dynamic_cast<const NamedWalk*>(&files);
  const std::string pattern = loosened(options.patterns);
  if (by_name != nullptr && !target.entry && !pattern.empty())
    by_name->walk_named(pattern, walk, take);
  else
    walk_target(target, walk, take);
}

}  // namespace lantern
