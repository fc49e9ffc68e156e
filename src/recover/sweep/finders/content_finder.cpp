#include "recover/sweep/finders/content_finder.h"

#include <array>

namespace lantern {
namespace {

constexpr std::size_t kStartOfText = 64;  // bytes that are all of text

constexpr std::array<bool, 256> kOfText = [] {
  std::array<bool, 256> of_text{};
  for (std::size_t i = 0; i < of_text.size(); ++i)
    of_text[i] = (i >= 0x20 && i < 0x7F) || i == 9 || i == 10 || i == 13;
  return of_text;
}();

bool is_of_text(std::byte b) {
  return kOfText[std::to_integer<std::size_t>(b)];
}

bool begins_text(ByteView sector) {
  for (std::size_t i = 0; i < kStartOfText; ++i)
    if (!is_of_text(sector[i]) && sector[i] < std::byte{0x80}) return false;
  return is_of_text(sector[0]);
}

}  // namespace

void ContentFinder::add(std::uint64_t offset, const SignatureKind& kind) {
  found_.push_back({offset, &kind});
  ++count_;
}

void ContentFinder::look(const SweptPiece& piece) {
  look_at_sectors(piece);
  if (!means_.anywhere) return;
  std::size_t left = kMaxInPiece;
  means_.anywhere->each(piece.bytes, piece.owned, [&](std::size_t at, const SignatureKind& kind) {
    if (left == 0) {
      capped_ = true;
      return false;
    }
    --left;
    add(piece.offset + at, kind);
    return true;
  });
}

void ContentFinder::look_at_sectors(const SweptPiece& piece) {
  static const SignatureKind& text = *Signatures::built_in().by_name("txt");
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    const ByteView bytes = piece.bytes.subspan(at);
    if (bytes.size() < kLookAhead && !means_.marks->fits(bytes.size())) break;
    if (const SignatureKind* const kind = means_.marks->at_sector(bytes)) {
      add(piece.offset + at, *kind);
    } else if (is_of_text(bytes[0]) && is_of_text(bytes[1]) && begins_text(bytes)) {
      // One that only goes on here is known by the byte before it; of the first sector of a piece
      // that is asked when it is checked.
      if (at == 0 || !is_of_text(piece.bytes[at - 1])) add(piece.offset + at, text);
    }
  }
}

void ContentFinder::join(Finder& later) {
  auto& other = static_cast<ContentFinder&>(later);
  found_.insert(found_.end(), other.found_.begin(), other.found_.end());
  count_ += other.count_;
  capped_ = capped_ || other.capped_;
}

void ContentFinder::load(Database& database, std::uint64_t swept_to) {
  Statement count = database.prepare("SELECT count(*) FROM candidate WHERE offset < ?");
  count.bind(1, swept_to).step();
  count_ = count.number(0);
}

std::uint64_t ContentFinder::save(Database& database, std::uint64_t swept_to) {
  Statement add = database.prepare("INSERT OR IGNORE INTO candidate VALUES(?, ?)");
  for (const Candidate& candidate : found_)
    add.bind(1, candidate.offset).bind(2, candidate.kind->name).run();
  found_.clear();
  return swept_to;
}

std::vector<CatalogFinder::Count> ContentFinder::counts() const {
  return {{"starts of files", count_}};
}

}  // namespace lantern
