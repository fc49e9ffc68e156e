// What a store of volume shadow copies keeps, and a volume put together from several. The layout
// stands in shadow_copies.h.
//
// Thread-safety: what is returned may be used from any thread.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::shadow {

constexpr std::uint64_t kBlockBytes = 16384;

enum class Kind : std::uint32_t { head = 1, catalog = 2, list = 3, store = 4, bitmap = 6 };

bool is_block(ByteView bytes, Kind kind);

// A chain of blocks, from the byte of the first on.
struct Chain {
  std::uint64_t first = 0;
  Kind kind{};
  std::size_t entry_bytes = 0;
};
// Every entry of every block. What is not such a block ends the chain, is reported, and makes the
// answer false.
bool each_entry(const SourcePtr& volume, const Chain& chain, const Context& context,
                const std::function<void(ByteView entry)>& use);

// Where the parts of a store lie, bytes of the volume; 0: there is none.
struct StorePlaces {
  std::uint64_t list = 0;
  std::uint64_t head = 0;
  std::uint64_t bitmap = 0;
  std::uint64_t earlier_bitmap = 0;
};

// The id of the copy a store is of.
std::optional<std::string> name_of(const SourcePtr& volume, const StorePlaces& places);

// The volume as it was at the time of the first of these stores, which are in order of time and
// whose last is the newest there is. Throws Error{unsupported} when they keep too many blocks.
SourcePtr open_stores(const SourcePtr& volume, const std::vector<StorePlaces>& stores,
                      std::uint64_t size_bytes, const Context& context);

}  // namespace lantern::shadow
