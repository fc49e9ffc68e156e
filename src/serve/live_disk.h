// A disk that others use: its raw bytes and those of its volumes, read and, where that is wanted,
// written: over the disk, into an overlay file, or in place, with a journal.
//
// Thread-safety: every member may be called from any thread.
#pragma once

#include <atomic>
#include <memory>
#include <optional>
#include <shared_mutex>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "host/image_lock.h"
#include "lantern/nest/session.h"
#include "lantern/repair.h"
#include "lantern/serving.h"

namespace lantern {

namespace repair {
class InPlace;
}

// The disk whose volumes and bytes are shown: of a catalog the one that was swept. Empty: it is not
// there, or only one volume of the catalog is asked for.
std::optional<Target> shown_disk(const Target& target);

class LiveDisk {
 public:
  // The whole disk, a volume of it, or what is in an encrypted one.
  struct Raw {
    std::string name;     // "disk", "volume-2", "volume-2-decrypted"
    std::string address;  // that it is known by elsewhere
    Range range;          // of the disk; of a content its length
    SourcePtr content;    // decrypted; else empty
    std::uint32_t sector_bytes = kSector;
  };

  // The last disk of the target, or the one volume of it that the target names. With
  // Writes::overlay the session reads through a scratch. Throws Error{refused, cannot_write}.
  LiveDisk(const Target& target, const Session& session, const WriteOptions& writes);
  ~LiveDisk();
  LiveDisk(const LiveDisk&) = delete;
  LiveDisk& operator=(const LiveDisk&) = delete;

  const std::vector<Raw>& raws() const { return raws_; }
  bool is_writable() const { return writes_.how != Writes::none; }

  // Bytes of a raw. Throws Error where the disk is not to be read any more.
  ReadResult read(const Raw& raw, std::uint64_t offset, std::span<std::byte> out) const;
  void extents(const Raw& raw, Range range, const ExtentVisitor& visit) const;
  // What lies inside the raw. Throws Error{refused, unsupported, cannot_write}.
  void write(const Raw& raw, std::uint64_t offset, std::span<const std::byte> bytes);
  // Whether another program has changed the files below; then nothing is read any more. In words;
  // empty: none has.
  std::string look_for_changes();
  bool has_changed() const { return changed_; }
  // What was written is kept, whatever happens.
  void flush();
  // The last flush; nothing is written any more.
  void close();

 private:
  void open();
  // The raw's bytes lie there in its range. The mutex is held.
  const ByteSource& bytes_of(const Raw& raw) const { return raw.content ? *raw.content : *flat_; }

  Address source_;
  Session session_;
  WriteOptions writes_;
  std::unique_ptr<repair::InPlace> in_place_;
  ImageLock lock_;
  struct Watched {
    std::string path, stamp;
  };
  std::vector<Watched> files_;
  std::atomic<bool> changed_{false};
  std::vector<Raw> raws_;
  mutable std::shared_mutex mutex_;  // of what follows
  SourcePtr flat_;
};

}  // namespace lantern
