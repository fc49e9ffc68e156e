// Places where a file of a known kind may begin, by its mark or since a text begins there. Each is
// checked afterwards (recover/content/).
//
// Thread-safety: one thread.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "recover/sweep/finders/catalog_finder.h"
#include "recover/sweep/finders/marks.h"

namespace lantern {

class ContentFinder final : public CatalogFinder {
 public:
  // What all finders of a pass look with.
  struct Means {
    std::shared_ptr<const Marks> marks;
    std::shared_ptr<const MarksAnywhere> anywhere;  // empty: at the start of sectors alone
  };
  explicit ContentFinder(Means means) : means_(std::move(means)) {}

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<ContentFinder>(means_); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  void load(Database& database, std::uint64_t swept_to) override;
  std::uint64_t save(Database& database, std::uint64_t swept_to) override;
  bool capped() const override { return capped_; }
  std::vector<Count> counts() const override;

 private:
  // Of what begins at one sector after another, as of marks made by somebody at each byte.
  static constexpr std::size_t kMaxInPiece = 4096;
  struct Candidate {
    std::uint64_t offset = 0;  // of the disk, bytes
    const SignatureKind* kind = nullptr;
  };

  void look_at_sectors(const SweptPiece& piece);
  void add(std::uint64_t offset, const SignatureKind& kind);

  Means means_;
  std::vector<Candidate> found_;  // not written yet
  std::uint64_t count_ = 0;
  bool capped_ = false;
};

}  // namespace lantern
