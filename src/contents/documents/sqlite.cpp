#include <algorithm>
#include <optional>
#include <vector>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr unsigned kInteriorIndex = 2, kInteriorTable = 5, kLeafIndex = 10, kLeafTable = 13;
constexpr std::size_t kMaxPages = 16u << 20;
constexpr int kMaxTreeDepth = 64;

class Database {
 public:
  explicit Database(KindReader& file) : file_(file) {}

  Held check() {
    const std::uint64_t recorded = file_.be16(16);
    page_bytes_ = recorded == 1 ? 65536 : recorded;
    if (page_bytes_ < 512 || (page_bytes_ & (page_bytes_ - 1)) != 0)
      file_.broken(16, "invalid page size");
    usable_ = page_bytes_ - file_.byte(20);
    pages_ = file_.be32(28);
    // Old writers leave the count alone: then the length of the file counts.
    const bool counted = pages_ != 0 && file_.be32(24) == file_.be32(92);
    if (!counted && file_.open_end()) file_.give_up(28, "it does not say how long it is");
    if (!counted) pages_ = file_.size() / page_bytes_;
    if (pages_ > kMaxPages) file_.broken(28, "it has too many pages");
    if (file_.starts(21, "\x40\x20\x20")) file_.prove();
    file_.declare(pages_ * page_bytes_);
    if (!file_.has(0, pages_ * page_bytes_)) {
      cut_ = true;
      if (file_.size() < page_bytes_) file_.cut(file_.size(), "its first page is cut");
    }
    seen_.assign(static_cast<std::size_t>(pages_) + 1, false);
    tree(1, 0, true);
    for (const std::uint64_t root : roots_) {
      last_row_.reset();
      tree(root, 0, false);
    }
    free_list();
    if (cut_) file_.cut(file_.size(), "its last pages are missing");
    return {false, pages_ * page_bytes_, "its pages fit", unchecked()};
  }

 private:
  // Each page has its place in one tree, and is of the kind and length that it should be; pages
  // that nothing leads to are covered by nothing.
  std::uint64_t unchecked() const {
    std::uint64_t longest = 1, run = 0;
    for (std::size_t page = 1; page < seen_.size(); ++page) {
      run = seen_[page] ? 0 : run + 1;
      longest = std::max(longest, run);
    }
    return longest * page_bytes_;
  }

  std::uint64_t at(std::uint64_t page) const { return (page - 1) * page_bytes_; }

  void take(std::uint64_t page, std::uint64_t from) {
    file_.check_cancelled();
    if (page == 0 || page > pages_) file_.broken(from, "a page number is invalid");
    if (seen_[static_cast<std::size_t>(page)]) file_.broken(from, "two things hold one page");
    seen_[static_cast<std::size_t>(page)] = true;
  }

  // A number of up to nine bytes, most significant first.
  std::uint64_t number(std::uint64_t& place) {
    std::uint64_t value = 0;
    for (int i = 0; i < 8; ++i) {
      const unsigned byte = file_.byte(place++);
      value = value << 7 | (byte & 0x7Fu);
      if ((byte & 0x80u) == 0) return value;
    }
    return value << 8 | file_.byte(place++);
  }

  void tree(std::uint64_t page, int depth, bool schema) {
    const std::uint64_t start = at(page);
    take(page, start);
    if (!file_.has(start, page_bytes_)) return;  // of a cut database
    if (depth > kMaxTreeDepth) file_.broken(start, "a tree is too deep");
    const std::uint64_t header = start + (page == 1 ? 100 : 0);
    const unsigned type = file_.byte(header);
    const bool interior = type == kInteriorIndex || type == kInteriorTable;
    if (!interior && type != kLeafIndex && type != kLeafTable)
      file_.broken(header, "a page is of no known kind");
    const std::uint64_t cells = file_.be16(header + 3);
    const std::uint64_t pointers = header + (interior ? 12 : 8);
    if (pointers + 2 * cells > start + page_bytes_)
      file_.broken(header, "a page has more cells than room");
    for (std::uint64_t i = 0; i < cells; ++i) {
      const std::uint64_t cell = file_.be16(pointers + 2 * i);
      if (cell < pointers + 2 * cells - start || cell + 4 > page_bytes_)
        file_.broken(pointers + 2 * i, "a cell is outside its page");
      this->cell(start + cell, start, type, depth, schema);
    }
    if (interior) tree(file_.be32(header + 8), depth + 1, schema);
  }

  void cell(std::uint64_t place, std::uint64_t page, unsigned type, int depth, bool schema) {
    const bool interior = type == kInteriorIndex || type == kInteriorTable;
    if (interior) {
      tree(file_.be32(place), depth + 1, schema);
      place += 4;
    }
    if (type == kInteriorTable) {
      // No row before it has a larger number.
      const std::int64_t key = static_cast<std::int64_t>(number(place));
      if (last_row_ && *last_row_ > key) file_.broken(place, "rows are out of order");
      last_row_ = key;
      return;
    }
    const std::uint64_t length = number(place);
    const bool table = type == kLeafTable;
    if (table) {
      const std::int64_t row = static_cast<std::int64_t>(number(place));
      if (last_row_ && *last_row_ >= row) file_.broken(place, "rows are out of order");
      last_row_ = row;
    }
    const std::uint64_t most = table ? usable_ - 35 : (usable_ - 12) * 64 / 255 - 23;
    std::uint64_t here = length;
    if (length > most) {
      const std::uint64_t least = (usable_ - 12) * 32 / 255 - 23;
      here = least + (length - least) % (usable_ - 4);
      if (here > most) here = least;
    }
    if (place + here > page + page_bytes_) file_.broken(place, "a row is longer than its page");
    check_row(place, here, length);
    if (schema) root_of(place, here);
    if (here < length) overflow(place + here, length - here);
  }

  // The lengths of its columns and of the list of them make up the length of the row.
  void check_row(std::uint64_t row, std::uint64_t here, std::uint64_t length) {
    std::uint64_t place = row;
    const std::uint64_t header = number(place);
    if (header > length) file_.broken(row, "a row makes no sense");
    if (header > here) return;  // the list goes on elsewhere
    std::uint64_t columns = 0;
    while (place < row + header) {
      columns += bytes_of_column(number(place));
      if (columns > length) break;
    }
    if (place != row + header || header + columns != length)
      file_.broken(row, "the columns of a row do not have its length");
  }

  static std::uint64_t bytes_of_column(std::uint64_t type) {
    constexpr std::uint64_t kBytes[] = {0, 1, 2, 3, 4, 6, 8, 8, 0, 0, 0, 0};
    return type < 12 ? kBytes[type] : (type - 12) / 2;
  }

  // The root page a row of the schema names: its fourth column.
  void root_of(std::uint64_t row, std::uint64_t length) {
    std::uint64_t place = row;
    const std::uint64_t header = number(place);
    std::uint64_t data = row + header;
    for (int column = 0; place < row + header && column < 4; ++column) {
      const std::uint64_t type = number(place);
      const std::uint64_t bytes = bytes_of_column(type);
      if (column == 3 && bytes > 0 && bytes <= 4 && data + bytes <= row + length) {
        std::uint64_t root = 0;
        for (std::uint64_t i = 0; i < bytes; ++i) root = root << 8 | file_.byte(data + i);
        if (root != 0) roots_.push_back(root);
      } else if (column == 3 && type == 9) {
        roots_.push_back(1);
      }
      data += bytes;
      if (data > row + length && column < 3) return;  // its text goes on elsewhere
    }
  }

  void overflow(std::uint64_t from, std::uint64_t length) {
    std::uint64_t next = file_.be32(from);
    for (std::uint64_t left = length; left > 0;) {
      take(next, from);
      if (!file_.has(at(next), page_bytes_)) return;
      left -= std::min(left, usable_ - 4);
      from = at(next);
      next = file_.be32(from);
    }
    if (next != 0) file_.broken(from, "a row goes on past its end");
  }

  void free_list() {
    std::uint64_t trunk = file_.be32(32);
    while (trunk != 0) {
      take(trunk, 32);
      if (!file_.has(at(trunk), page_bytes_)) return;
      const std::uint64_t leaves = file_.be32(at(trunk) + 4);
      if (leaves > usable_ / 4 - 2) file_.broken(at(trunk), "the list of free pages is invalid");
      for (std::uint64_t i = 0; i < leaves; ++i) take(file_.be32(at(trunk) + 8 + 4 * i), at(trunk));
      trunk = file_.be32(at(trunk));
    }
  }

  KindReader& file_;
  std::uint64_t page_bytes_ = 0, usable_ = 0, pages_ = 0;
  bool cut_ = false;
  std::vector<bool> seen_;
  std::vector<std::uint64_t> roots_;
  std::optional<std::int64_t> last_row_;  // of the tree that is walked: the number of a row
};

}  // namespace

Held check_sqlite(KindReader& file) {
  return Database(file).check();
}

}  // namespace lantern::kinds
