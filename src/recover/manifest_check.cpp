#include "lantern/recover/manifest_check.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <fstream>
#include <vector>

#include "base/json_reader.h"
#include "base/sha256.h"
#include "lantern/error.h"
#include "recover/destination.h"

namespace lantern {
namespace {

constexpr std::string_view kEnding = ".manifest.json";
constexpr std::size_t kPiece = 1u << 20;

// A file below a folder, no link followed on the way, nothing above reached.
OpenFile open_below(const OpenFile& folder, const std::string& relative) {
  OpenFile at(::openat(folder.get(), ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  for (std::size_t from = 0; at.good();) {
    const std::size_t to = std::min(relative.find('/', from), relative.size());
    const std::string name = relative.substr(from, to - from);
    if (name.empty() || name == "." || name == "..") return OpenFile();
    const bool last = to == relative.size();
    at = OpenFile(
        ::openat(at.get(), name.c_str(),
                 O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK | (last ? 0 : O_DIRECTORY)));
    if (last) return at;
    from = to + 1;
  }
  return at;
}

class Check {
 public:
  Check(const OpenFile& folder, const Context& context,
        const std::function<void(const ManifestProblem&)>& visit)
      : folder_(folder), context_(context), visit_(visit), buffer_(kPiece) {}

  void row(const JsonValue& row, ManifestCheck& sum) {
    context_.check_cancelled();
    const std::string written = row.text_of("written");
    // Of what has no content nothing was written.
    if (written.empty() || row.text_of("kind") == "link") return;
    ++sum.files;
    const std::string hash = row.text_of("sha256");
    const auto problem = [&](ManifestState state) {
      ++sum.bad;
      if (visit_) visit_({row.text_of("path"), written, state});
    };
    const OpenFile file = open_below(folder_, written);
    struct stat facts {};
    if (!file.good())
      return problem(errno == EACCES ? ManifestState::unreadable : ManifestState::missing);
    if (::fstat(file.get(), &facts) != 0 || !S_ISREG(facts.st_mode))
      return problem(ManifestState::missing);
    if (static_cast<std::uint64_t>(facts.st_size) != row.at("size_bytes").number())
      return problem(ManifestState::changed);
    if (hash.empty()) {
      ++sum.by_size;
      return;
    }
    const auto found = hash_of(file);
    if (!found) return problem(ManifestState::unreadable);
    if (*found != hash) return problem(ManifestState::changed);
    ++sum.matching;
  }

 private:
  std::optional<std::string> hash_of(const OpenFile& file) {
    Sha256 hash;
    for (;;) {
      context_.check_cancelled();
      const ssize_t got = ::read(file.get(), buffer_.data(), buffer_.size());
      if (got < 0 && errno == EINTR) continue;
      if (got < 0) return std::nullopt;
      if (got == 0) return hash.finish_hex();
      hash.add(std::span(buffer_).first(static_cast<std::size_t>(got)));
    }
  }

  const OpenFile& folder_;
  const Context& context_;
  const std::function<void(const ManifestProblem&)>& visit_;
  std::vector<std::byte> buffer_;
};

}  // namespace

std::string_view to_string(ManifestState state) {
  switch (state) {
    case ManifestState::changed:
      return "changed";
    case ManifestState::missing:
      return "missing";
    case ManifestState::unreadable:
      return "unreadable";
  }
  return {};
}

ManifestCheck check_manifest(const std::string& manifest, const std::string& folder,
                             const Context& context,
                             const std::function<void(const ManifestProblem&)>& visit) {
  std::ifstream in(manifest);
  if (!in)
    throw Error(ErrorCode::cannot_open, manifest, std::nullopt, "cannot be opened",
                "name the manifest that extraction left beside its files");
  ManifestCheck sum;
  sum.folder = folder;
  if (folder.empty() && manifest.size() > kEnding.size() && manifest.ends_with(kEnding))
    sum.folder = manifest.substr(0, manifest.size() - kEnding.size());
  if (sum.folder.empty())
    throw Error(ErrorCode::usage, manifest, std::nullopt,
                "does not say where its files are: its name does not end in .manifest.json",
                "name the folder too");
  const OpenFile files(::open(sum.folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!files.good())
    throw Error(ErrorCode::cannot_open, sum.folder, std::nullopt,
                "is not a folder that can be read", "name the folder the files were written to");
  Check check(files, context, visit);
  bool ours = false;
  std::optional<std::vector<std::string>> members;
  try {
    members = visit_json(in, [&](const std::string& member, const JsonValue& value) {
      if (member == "manifest") ours = true;
      if (member == "complete") sum.complete = value.boolean();
      if (member == "files" && ours) check.row(value, sum);
    });
  } catch (const JsonMismatch&) {
    members.reset();
  }
  if (!ours || !members)
    throw Error(ErrorCode::cannot_open, manifest, std::nullopt,
                "is not a whole manifest of an extraction",
                "one that ends in .part belongs to an extraction that was stopped: run that again");
  sum.manifest_sha256 = sha256_of_file(manifest);
  return sum;
}

}  // namespace lantern
