#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <filesystem>
#include <thread>
#include <utility>

#include "base/checked.h"
#include "lantern/error.h"
#include "lantern/imaging.h"
#include "lantern/sources.h"
#include "recover/hash_thread.h"
#include "recover/image/image_record.h"
#include "recover/image/writer.h"
#include "source/given.h"

namespace lantern {
namespace {

constexpr std::array<std::pair<std::string_view, ImageKind>, 10> kKinds = {{
    {"raw", ImageKind::raw},
    {"vmdk", ImageKind::vmdk},
    {"vmdk-stream", ImageKind::vmdk_stream},
    {"vdi", ImageKind::vdi},
    {"vhd", ImageKind::vhd},
    {"vhd-fixed", ImageKind::vhd_fixed},
    {"vhdx", ImageKind::vhdx},
    {"qcow2", ImageKind::qcow2},
    {"qcow2-compressed", ImageKind::qcow2_compressed},
    {"qcow2-child", ImageKind::qcow2_child},
}};

// Read at once: a multiple of every kind's block, or one block where that is larger.
constexpr std::uint64_t kPiece = 1u << 20;
constexpr std::uint64_t kPackedPiece = 4u << 20;
// Between two notes of how far it is.
constexpr std::uint64_t kNoteEvery = 256u << 20;
constexpr unsigned kMaxThreads = 8;

bool goes_on(ImageKind kind) {
  return kind == ImageKind::raw || kind == ImageKind::vhd_fixed;
}

std::unique_ptr<ImageWriter> make_writer(OutputFile& out, std::uint64_t disk_bytes,
                                         const std::string& name, const ImageOptions& options) {
  switch (options.kind) {
    case ImageKind::raw:
      return make_raw_writer(out, disk_bytes);
    case ImageKind::vmdk:
      return make_vmdk_writer(out, disk_bytes, name);
    case ImageKind::vmdk_stream:
      return make_vmdk_stream_writer(out, disk_bytes, name);
    case ImageKind::vdi:
      return make_vdi_writer(out, disk_bytes);
    case ImageKind::vhd:
      return make_vhd_writer(out, disk_bytes, false);
    case ImageKind::vhd_fixed:
      return make_vhd_writer(out, disk_bytes, true);
    case ImageKind::vhdx:
      return make_vhdx_writer(out, disk_bytes);
    case ImageKind::qcow2:
      return make_qcow2_writer(out, disk_bytes, false, {}, {});
    case ImageKind::qcow2_compressed:
      return make_qcow2_writer(out, disk_bytes, true, {}, {});
    case ImageKind::qcow2_child:
      return make_qcow2_writer(out, disk_bytes, false, options.original, options.original_format);
  }
  throw Error(ErrorCode::usage, {}, std::nullopt, "there is no such kind of image");
}

// Bytes that are not zero, found sixty-four at a time.
bool is_zero(ByteView bytes) {
  std::size_t at = 0;
  for (; at + 64 <= bytes.size(); at += 64) {
    std::byte any{0};
    for (std::size_t i = 0; i < 64; ++i) any |= bytes[at + i];
    if (any != std::byte{0}) return false;
  }
  return all_zero(bytes.subspan(at));
}

// The next stretch of the disk from `at` that is not known to be zero; empty at the end. What is
// known to be lost is noted and passed over: reading it gives zeros.
Range next_data(const ByteSource& disk, std::uint64_t at, std::vector<Range>& lost) {
  Range data{disk.size(), 0};
  if (at >= disk.size()) return data;
  disk.extents({at, disk.size() - at}, [&](const Extent& extent) {
    if (extent.kind == ExtentKind::unreadable) lost.push_back(extent.range);
    if (extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated ||
        extent.kind == ExtentKind::unreadable)
      return data.empty();
    if (data.empty()) {
      data = extent.range;
    } else if (data.end() == extent.range.offset) {
      data.length += extent.range.length;
    } else {
      return false;
    }
    return data.length < kPackedPiece;
  });
  return data;
}

void add_lost(std::vector<Range>& all, Range range) {
  if (range.empty()) return;
  if (!all.empty() && range.offset <= all.back().end()) {
    const std::uint64_t end = std::max(all.back().end(), range.end());
    all.back().length = end - all.back().offset;
  } else {
    all.push_back(range);
  }
}

class Imaging {
 public:
  Imaging(SourcePtr disk, std::string out, const ImageOptions& options, const Context& context)
      : disk_(std::move(disk)),
        path_(std::move(out)),
        part_(path_ + ".part"),
        options_(options),
        context_(context) {
    refuse_what_is_there();
    record_.kind = options.kind;
    record_.source = identify(*disk_);
    record_.summary.disk_bytes = disk_->size();
    const auto before = read_image_record(part_ + ".json");
    std::error_code error;
    if (before && goes_on(options.kind) && before->kind == options.kind &&
        compare(before->source, record_.source) == IdentityMatch::same &&
        std::filesystem::file_size(part_, error) >= before->done_bytes && !error) {
      record_.done_bytes = before->done_bytes;
      record_.summary.stored_bytes = before->summary.stored_bytes;
      record_.summary.unreadable = before->summary.unreadable;
      record_.summary.resumed = before->done_bytes > 0;
    }
    out_.emplace(part_, record_.summary.resumed);
    try {
      writer_ = make_writer(*out_, disk_->size(), std::filesystem::path(path_).filename().string(),
                            options_);
    } catch (const Error&) {
      // Too large for the kind: what was begun is taken away again.
      std::filesystem::remove(part_, error);
      throw;
    }
    if (options_.hash) hash_.emplace(context_.cancel);
  }

  ImageSummary run() {
    try {
      hash_what_is_there();
      if (options_.kind != ImageKind::qcow2_child) copy();
      finish();
    } catch (const Error& error) {
      if (error.code() != ErrorCode::stopped) throw;
      record_.summary.stopped = true;
      record_.summary.why_stopped = error.what();
      if (goes_on(options_.kind)) note();
    }
    return record_.summary;
  }

 private:
  void refuse_what_is_there() const {
    std::error_code error;
    if (std::filesystem::exists(std::filesystem::symlink_status(path_, error)))
      throw Error(ErrorCode::refused, path_, std::nullopt, "is there already",
                  "choose another name; nothing is replaced");
    if (std::filesystem::exists(path_ + ".reading", error))
      throw Error(ErrorCode::refused, part_, std::nullopt,
                  "is the unfinished copy of a failing disk",
                  "go on with --failing, or choose another name");
  }

  // The bytes an earlier run wrote are part of the hash.
  void hash_what_is_there() {
    if (!hash_ || record_.done_bytes == 0) return;
    const SourcePtr written = open_file_source(part_, context_);
    for (std::uint64_t at = 0; at < record_.done_bytes; at += kPiece) {
      context_.check_cancelled();
      auto bytes = std::make_shared<Bytes>(
          static_cast<std::size_t>(std::min(kPiece, record_.done_bytes - at)));
      written->read(at, *bytes);
      const std::size_t length = bytes->size();
      hash_->add(std::move(bytes), length);
    }
  }

  void copy() {
    const std::uint64_t block = writer_->block_bytes();
    const std::uint64_t piece = std::max(block, writer_->packs() ? kPackedPiece : kPiece);
    std::uint64_t noted = record_.done_bytes;
    while (record_.done_bytes < disk_->size()) {
      context_.check_cancelled();
      std::vector<Range> lost;
      const Range data = next_data(*disk_, record_.done_bytes, lost);
      const std::uint64_t from =
          data.empty() ? disk_->size() : std::max(record_.done_bytes, data.offset / block * block);
      for (const Range& range : lost)
        add_lost(record_.summary.unreadable,
                 intersect(range, {record_.done_bytes, from - record_.done_bytes}));
      if (hash_) hash_->add_zeros(from - record_.done_bytes);
      record_.done_bytes = from;
      if (data.empty()) return;
      const std::uint64_t to =
          std::min({divide_up(data.end(), block) * block, from + piece, disk_->size()});
      copy_piece({from, to - from});
      record_.done_bytes = to;
      if (context_.progress) context_.progress->update(to, disk_->size(), path_);
      if (goes_on(options_.kind) && to - noted >= kNoteEvery) {
        out_->sync();
        note();
        noted = to;
      }
    }
  }

  void copy_piece(Range range) {
    const auto length = static_cast<std::size_t>(range.length);
    const auto block = static_cast<std::size_t>(writer_->block_bytes());
    auto bytes = std::make_shared<Bytes>(divide_up(length, block) * block);
    const ReadResult got = disk_->read(range.offset, std::span(*bytes).first(length));
    for (const Range& lost : got.unreadable) add_lost(record_.summary.unreadable, lost);
    std::vector<std::size_t> blocks;  // offsets of those to store
    for (std::size_t at = 0; at < bytes->size(); at += block)
      if (!is_zero(ByteView(*bytes).subspan(at, block))) blocks.push_back(at);
    if (hash_) hash_->add(bytes, length);
    std::vector<Bytes> packed(writer_->packs() ? blocks.size() : 0);
    if (writer_->packs()) pack(*bytes, blocks, packed);
    for (std::size_t i = 0; i < blocks.size(); ++i) {
      const ByteView whole = ByteView(*bytes).subspan(blocks[i], block);
      writer_->put((range.offset + blocks[i]) / block, packed.empty() ? whole : packed[i]);
      record_.summary.stored_bytes += block;
    }
  }

  void pack(const Bytes& bytes, const std::vector<std::size_t>& blocks,
            std::vector<Bytes>& packed) const {
    const auto block = static_cast<std::size_t>(writer_->block_bytes());
    std::atomic<std::size_t> next{0};
    const auto work = [&] {
      for (std::size_t i = next++; i < blocks.size(); i = next++)
        packed[i] = writer_->pack(ByteView(bytes).subspan(blocks[i], block));
    };
    unsigned threads =
        context_.threads != 0 ? context_.threads : std::thread::hardware_concurrency();
    threads = std::clamp(threads, 1u, kMaxThreads);
    std::vector<std::jthread> helpers;
    for (unsigned i = 1; i < threads; ++i) helpers.emplace_back(work);
    work();
  }

  void note() { write_image_record(part_ + ".json", record_); }

  void finish() {
    writer_->finish();
    record_.done_bytes = disk_->size();
    if (hash_ && options_.kind != ImageKind::qcow2_child)
      record_.summary.sha256 = hash_->finish_hex();
    out_->finish(path_);
    write_image_record(path_ + ".json", record_);
    std::error_code error;
    std::filesystem::remove(part_ + ".json", error);
  }

  SourcePtr disk_;
  std::string path_;
  std::string part_;
  ImageOptions options_;
  Context context_;
  ImageRecord record_;
  std::optional<OutputFile> out_;
  std::unique_ptr<ImageWriter> writer_;
  std::optional<HashThread> hash_;
};

}  // namespace

std::optional<ImageKind> image_kind(std::string_view name) {
  for (const auto& [word, kind] : kKinds)
    if (word == name) return kind;
  return std::nullopt;
}

std::string_view to_string(ImageKind kind) {
  for (const auto& [word, other] : kKinds)
    if (other == kind) return word;
  return {};
}

ImageSummary write_image(const SourcePtr& disk, const std::string& out, const ImageOptions& options,
                         const Context& context) {
  return Imaging(given(disk), out, options, context).run();
}

ImageOptions child_of(const Address& original, const std::string& original_format,
                      const std::string& child) {
  if (!original.steps.empty())
    throw Error(ErrorCode::usage, original.print(), std::nullopt,
                "a child image needs an image file as its parent, not a layer inside one",
                "name the image alone");
  ImageOptions options;
  options.kind = ImageKind::qcow2_child;
  // A link may lead somewhere else tomorrow.
  const std::filesystem::path from = std::filesystem::canonical(original.first);
  const std::filesystem::path to = std::filesystem::absolute(child);
  options.original =
      from.parent_path() == to.parent_path() ? from.filename().string() : from.string();
  // As the hypervisor calls them.
  options.original_format = original_format == "vhd"   ? "vpc"
                            : original_format == "hdd" ? "parallels"
                                                       : original_format;
  return options;
}

}  // namespace lantern
