// The journal of ext3 and ext4: a ring of blocks, a transaction after another. Big-endian.
//   each block of its own begins: 0 4 C03B3998  4 4 kind  8 4 sequence
//   superblock (kind 3, 4): 0x0C 4 block bytes  0x10 4 blocks  0x14 4 first block of the log
//     0x18 4 sequence expected first  0x1C 4 where it starts, 0: nothing to do  0x28 4 features:
//     2 wide numbers, 8 and 10 checksums, 20 fast commits  0x30 16 UUID
//   descriptor (1): from 0x0C a tag for each block that follows: with 0x10: 0 4 block  4 4 flags
//     8 4 block, high  0x0C 4 CRC-32C; else 0 4 block  4 2 CRC  6 2 flags  (8 4 block, high);
//     flags: 1 its first four bytes were those of a journal block, 2 no UUID follows, 8 the last
//   commit (2)    revoke (5): 0x0C 4 bytes used, then numbers of blocks not to be written any more
// On a device of its own it stands behind a superblock with "journal device" among its features, in
// block 1, or 2 where blocks have 1024 bytes; its blocks are counted from the start of the device.
// Source: the kernel's documentation of ext4 data structures, "Journal (jbd2)" and "External
// Journal".
#pragma once

#include <map>
#include <vector>

#include "filesystem/ext/block_map.h"

namespace lantern::ext {

// A block of the volume as a transaction wrote it.
struct JournalCopy {
  std::uint64_t block = 0;     // of the volume
  std::uint64_t place = 0;     // where the copy lies, block of what the journal is on
  std::uint32_t sequence = 0;  // of its transaction
  bool escaped = false;        // its first four bytes were taken out
};

// Of a journal on a device of its own: where it begins there, bytes.
std::uint64_t journal_start(std::uint32_t block_bytes);
// Bytes that a sector says a journal has: all of it, by its own superblock; the sector, by another
// block of its own; or 0.
std::uint64_t journal_span(ByteView sector);
// Whether its first block begins as one of version 1 or 2.
bool is_journal_start(ByteView block);

struct History {
  std::vector<JournalCopy> copies;  // oldest first
  // Every transaction from this one to the newest is there as a whole.
  std::uint32_t unbroken_from = 0xFFFFFFFF;
};

// The volume with what was committed and not yet written laid over it, as a mount would show it;
// `volume.raw` itself when there is nothing to do.
SourcePtr replay_journal(const Volume& volume);

// Whether the journal holds what has yet to be written out, whatever the superblock says.
bool journal_waits(const Volume& volume);

// All the journal still holds, written out or not, past its end too.
History read_history(const Volume& volume);

// What a journal that begins at this byte of a disk, and lies in one run, holds of its volume.
struct LooseHistory {
  std::uint64_t block_bytes = 0;  // 0: it does not begin as one
  // The newest of each block of the volume, by that: bytes of the disk.
  std::map<std::uint64_t, std::uint64_t> newest;
};
LooseHistory read_loose_history(const SourcePtr& disk, std::uint64_t offset,
                                const Context& context);

// A block as a copy has it.
bool read_copy(const Volume& volume, const JournalCopy& copy, std::span<std::byte> out);

}  // namespace lantern::ext
