#include <libdeflate.h>

#include <algorithm>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

// RFC 8794 (EBML) and RFC 9559 (Matroska).
constexpr std::uint64_t kHeader = 0x1A45DFA3, kSegment = 0x18538067, kCluster = 0x1F43B675,
                        kVoid = 0xEC, kSum = 0xBF, kUnknown = ~std::uint64_t{0};

class Elements {
 public:
  explicit Elements(KindReader& file) : file_(file) {}

  Held check() {
    std::uint64_t at = 0;
    const Element head = element(at);
    if (head.id != kHeader || head.length > 4096) file_.broken(0, "its header makes no sense");
    at = head.data + head.length;
    const Element segment = element(at);
    if (segment.id != kSegment) file_.broken(at, "its content does not begin where it should");
    file_.prove();
    const bool open = segment.length == kUnknown;
    if (!open && segment.length > file_.size()) file_.declare(file_.size());
    const std::uint64_t end = open ? file_.size() : segment.data + segment.length;
    if (!open) file_.declare(end);
    at = segment.data;
    std::uint64_t longest = 0;
    bool any = false;
    while (at < end) {
      file_.check_cancelled();
      if (open && any && !is_top(at)) break;
      const Element one = element(at);
      if (!is_top(at)) file_.broken(at, "a part of it does not begin where it should");
      if (one.length == kUnknown && one.id != kCluster)
        file_.broken(at, "a part of it has no length");
      if (one.length != kUnknown && (one.length > file_.size() || !file_.has(one.data, one.length)))
        file_.cut(file_.size(), "its last part ends before its end");
      any = any || one.id == kCluster;
      const std::uint64_t part_end = one.length == kUnknown ? end : one.data + one.length;
      if (one.id == kCluster)
        at = cluster(one.data, part_end, one.length == kUnknown, longest);
      else
        at = other(one, longest);
    }
    if (!any) file_.broken(at, "it has no content");
    if (!open && at != end) file_.broken(at, "it is longer than what holds it");
    return {false, at, "its parts fit, to its end", longest};
  }

 private:
  struct Element {
    std::uint64_t id = 0, data = 0, length = 0;
  };

  std::uint64_t number(std::uint64_t& at, bool keep_mark) {
    const unsigned first = file_.byte(at);
    unsigned bytes = 1;
    while (bytes <= 8 && (first & (0x100u >> bytes)) == 0) ++bytes;
    if (bytes > (keep_mark ? 4u : 8u)) file_.broken(at, "a number in it is invalid");
    std::uint64_t value = keep_mark ? first : first & ((0x100u >> bytes) - 1);
    bool ones = (first | (0x1FFu << (8 - bytes) & 0xFFu)) == 0xFF;
    for (unsigned i = 1; i < bytes; ++i) {
      const unsigned next = file_.byte(at + i);
      ones = ones && next == 0xFF;
      value = value << 8 | next;
    }
    at += bytes;
    return ones && !keep_mark ? kUnknown : value;
  }

  Element element(std::uint64_t at) {
    file_.spend(4, at);
    Element one;
    one.id = number(at, true);
    one.length = number(at, false);
    one.data = at;
    return one;
  }

  bool is_top(std::uint64_t at) {
    if (!file_.has(at, 2)) return false;
    if (file_.byte(at) == kVoid || file_.byte(at) == kSum) return true;
    if (!file_.has(at, 4)) return false;
    const std::uint32_t id = file_.be32(at);
    return id == 0x114D9B74 || id == 0x1549A966 || id == 0x1654AE6B || id == kCluster ||
           id == 0x1C53BB6B || id == 0x1941A469 || id == 0x1043A770 || id == 0x1254C367;
  }

  // Behind its checksum, when it has one and that is right.
  bool is_summed(std::uint64_t data, std::uint64_t end) {
    if (end - data < 6 || file_.byte(data) != kSum || file_.byte(data + 1) != 0x84) return false;
    std::uint32_t sum = 0;
    file_.each(data + 6, end - data - 6,
               [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
    if (sum != file_.le32(data + 2))
      file_.flaw({data, end - data}, "the checksum of a part of it is wrong");
    return true;
  }

  std::uint64_t other(const Element& one, std::uint64_t& longest) {
    const std::uint64_t end = one.data + one.length;
    const bool covered =
        one.id == kVoid ? file_.all_zero(one.data, one.length) : is_summed(one.data, end);
    if (!covered) longest = std::max(longest, one.length);
    return end;
  }

  std::uint64_t cluster(std::uint64_t at, std::uint64_t end, bool open, std::uint64_t& longest) {
    const bool covered = !open && is_summed(at, end);
    while (at < end) {
      file_.check_cancelled();
      if (open && (is_top(at) && file_.byte(at) > 0x10 && file_.byte(at) < 0x20)) return at;
      if (open && !file_.has(at, 2)) return at;
      const Element one = element(at);
      constexpr std::uint64_t kTime = 0xE7, kBlock = 0xA3, kGroup = 0xA0, kPlace = 0xA7,
                              kBefore = 0xAB, kSilent = 0x5854;
      const bool known = one.id == kTime || one.id == kBlock || one.id == kGroup ||
                         one.id == kPlace || one.id == kBefore || one.id == kSilent ||
                         one.id == kVoid || one.id == kSum;
      if (!known && open) return at;
      if (!known) file_.broken(at, "a frame does not begin where it should");
      if (one.length > end - one.data) {
        if (open) file_.cut(file_.size(), "its last frame ends before its end");
        file_.broken(at, "a frame is longer than what holds it");
      }
      if (!covered) longest = std::max(longest, one.length);
      at = one.data + one.length;
    }
    return at;
  }

  KindReader& file_;
};

}  // namespace

Held check_ebml(KindReader& file) {
  return Elements(file).check();
}

}  // namespace lantern::kinds
