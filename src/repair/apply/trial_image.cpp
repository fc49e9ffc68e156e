#include "repair/apply/trial_image.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "base/bytes.h"
#include "base/sha256.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kCompared = 1u << 20;
constexpr std::size_t kDigits = 64;

std::string mark_of(const std::string& image) {
  return image + ".trial";
}

std::string hash_of(const std::string& path, const Context& context) {
  Context plain = context;
  plain.scratch = nullptr;
  const SourcePtr file = open_file_source(path, plain);
  Sha256 hash;
  Bytes piece(kCompared);
  for (std::uint64_t at = 0; at < file->size(); at += kCompared) {
    context.check_cancelled();
    hash.add(ByteView(piece).first(file->read(at, piece).length));
  }
  return hash.finish_hex();
}

}  // namespace

void mark_as_trial(const std::string& image, const Context& context) {
  std::ofstream out(mark_of(image), std::ios::binary | std::ios::trunc);
  out << hash_of(image, context) << '\n';
  if (!out.flush())
    throw Error(ErrorCode::cannot_write, mark_of(image), std::nullopt, std::strerror(errno),
                "make room, or choose another folder");
}

bool is_unchanged_trial(const std::string& image, const Context& context) {
  std::ifstream in(mark_of(image), std::ios::binary);
  std::string stored(kDigits, '\0');
  if (!in.read(stored.data(), kDigits)) return false;
  return stored == hash_of(image, context);
}

void delete_trial(const std::string& image) {
  std::error_code error;
  std::filesystem::remove(mark_of(image), error);
  // What making an image leaves beside it.
  for (const char* const end : {"", ".json", ".json.new", ".part", ".part.json", ".part.json.new"})
    std::filesystem::remove(image + end, error);
}

}  // namespace lantern::repair
