#include "container/write/block_writer.h"

#include "lantern/error.h"

namespace lantern {

Bytes read_exactly(const ByteSource& file, std::uint64_t at, std::size_t length) {
  if (at > file.size() || length > file.size() - at)
    throw Error(ErrorCode::cannot_write, {}, at, "a table of the image is outside the file",
                "repair the image first");
  Bytes bytes(length);
  if (!file.read(at, bytes).unreadable.empty())
    throw Error(ErrorCode::cannot_write, {}, at, "a table of the image cannot be read",
                {"make a copy with ", Do::image, " and repair that"});
  return bytes;
}

void need_block(std::uint64_t bytes) {
  constexpr std::uint64_t kMaxBlock = 512u << 20;
  if (bytes == 0 || bytes > kMaxBlock)
    throw Error(ErrorCode::cannot_write, {}, 0, "the image's block size is invalid",
                "repair the image first");
}

}  // namespace lantern
