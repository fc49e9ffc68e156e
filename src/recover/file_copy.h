// Copies the content of one file to the destination: holes stay holes, what cannot be read becomes
// zeros and is named, and a large file is hashed on a thread of its own while it is copied.
// Thread-safety: belongs to one thread.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/sha256.h"
#include "lantern/file_system.h"
#include "recover/destination.h"
#include "recover/hash_thread.h"

namespace lantern {

struct Copied {
  std::string sha256;  // of the bytes written; empty: not asked for, or too many holes
  std::vector<Range> lost;
};

class FileCopy {
 public:
  FileCopy(bool hash, const Context& context) : with_hash_(hash), context_(context) {}

  // `done`: called with the bytes of each piece. Throws Error{cannot_write, stopped}.
  Copied copy(const Content& content, std::uint64_t size_bytes, Destination& destination,
              const std::function<void(std::uint64_t)>& done);

 private:
  std::shared_ptr<Bytes> buffer();
  void hash_zeros(std::uint64_t count);
  void piece(const Content& content, Range range, Destination& destination, Copied& copied);

  bool with_hash_;
  Context context_;
  std::unique_ptr<HashThread> thread_;  // of a large file
  std::unique_ptr<Sha256> hash_;        // of a small one
  std::vector<std::shared_ptr<Bytes>> buffers_;
};

// A range laid behind others, joined with the last when they touch.
void add_range(std::vector<Range>& ranges, const Range& range);

}  // namespace lantern
