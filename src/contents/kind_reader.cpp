#include "contents/kind_reader.h"

#include <algorithm>

namespace lantern::kinds {

void KindReader::broken(std::uint64_t at, std::string why) const {
  throw Break{StructureState::contradictory, at, std::move(why), 0};
}

void KindReader::cut(std::uint64_t at, std::string why) const {
  throw Break{StructureState::cut, at, std::move(why), 0};
}

void KindReader::give_up(std::uint64_t at, std::string why) const {
  throw Break{StructureState::unknown, at, std::move(why), 0};
}

void KindReader::broken_in(Range where, std::string why) const {
  throw Break{StructureState::contradictory, where.offset, std::move(why), where.end()};
}

void KindReader::flaw(Range where, std::string why) {
  if (!open_end_) broken_in(where, std::move(why));
  if (!flaw_)
    flaw_ = Break{StructureState::contradictory, where.offset, std::move(why), where.end()};
}

void KindReader::spend(std::uint64_t work, std::uint64_t at) {
  work_ += work;
  if (work_ > max_work_) give_up(at, "following it further would take too long");
}

ByteView KindReader::view(std::uint64_t at, std::size_t length) {
  if (!has(at, length)) cut(size(), "it ends before its end");
  const bool inside = at >= window_at_ && at + length <= window_at_ + window_.size();
  if (inside) return ByteView(window_).subspan(static_cast<std::size_t>(at - window_at_), length);
  context_.check_cancelled();
  const bool large = length > kWindow / 2;
  std::vector<std::byte>& buffer = large ? large_ : window_;
  // Small steps backwards are met by the same window.
  const std::uint64_t from = large ? at : at - std::min<std::uint64_t>(at % 4096, at);
  const bool follows = at >= window_at_ && at <= window_at_ + window_.size();
  ahead_ = follows ? std::min(ahead_ * 4, kWindow) : kFirstWindow;
  const std::uint64_t wanted = std::max<std::uint64_t>(at - from + length, ahead_);
  const std::uint64_t count = large ? length : std::min(wanted, size() - from);
  reached_ = std::max(reached_, from + count);
  read_bytes_ += count;
  if (read_bytes_ / 32 > reached_ + (8u << 20))
    give_up(at, "its parts point to each other too often");
  spend(count, at);
  buffer.resize(static_cast<std::size_t>(count));
  const ReadResult got = bytes_.read(from, buffer);
  if (!large) window_at_ = from;
  for (const Range& lost : got.unreadable)
    if (lost.offset < at + length && lost.end() > at) {
      window_.clear();
      broken(std::max(lost.offset, at), "it cannot be read");
    }
  if (got.length < at - from + length) {
    window_.clear();
    cut(from + got.length, "it cannot be read to its end");
  }
  // What lies beside is not lent where it could not be read.
  if (!large && (!got.unreadable.empty() || got.length < buffer.size())) {
    large_.assign(buffer.begin() + static_cast<std::ptrdiff_t>(at - from),
                  buffer.begin() + static_cast<std::ptrdiff_t>(at - from + length));
    window_.clear();
    return large_;
  }
  return ByteView(buffer).subspan(static_cast<std::size_t>(at - from), length);
}

std::uint8_t KindReader::byte(std::uint64_t at) {
  return std::to_integer<std::uint8_t>(view(at, 1)[0]);
}

std::uint16_t KindReader::le16(std::uint64_t at) {
  return lantern::le16(view(at, 2), 0);
}

std::uint32_t KindReader::le32(std::uint64_t at) {
  return lantern::le32(view(at, 4), 0);
}

std::uint64_t KindReader::le64(std::uint64_t at) {
  return lantern::le64(view(at, 8), 0);
}

std::uint16_t KindReader::be16(std::uint64_t at) {
  return lantern::be16(view(at, 2), 0);
}

std::uint32_t KindReader::be32(std::uint64_t at) {
  return lantern::be32(view(at, 4), 0);
}

std::uint64_t KindReader::be64(std::uint64_t at) {
  return lantern::be64(view(at, 8), 0);
}

bool KindReader::starts(std::uint64_t at, std::string_view text) {
  return has(at, text.size()) && has_text(view(at, text.size()), 0, text);
}

void KindReader::each(std::uint64_t at, std::uint64_t length,
                      const std::function<void(ByteView)>& use) {
  if (!has(at, length)) cut(size(), "it ends before its end");
  for (std::uint64_t done = 0; done < length;) {
    const auto piece = static_cast<std::size_t>(std::min(kWindow / 2, length - done));
    use(view(at + done, piece));
    done += piece;
  }
}

std::optional<std::uint64_t> KindReader::find(std::uint64_t at, std::string_view text,
                                              std::uint64_t within) {
  const std::uint64_t end = std::min(size(), at + std::min(within, size()));
  while (at + text.size() <= end) {
    const auto length = static_cast<std::size_t>(std::min(kWindow / 2, end - at));
    const ByteView piece = view(at, length);
    const std::string_view letters(reinterpret_cast<const char*>(piece.data()), piece.size());
    if (const std::size_t found = letters.find(text); found != std::string_view::npos)
      return at + found;
    at += length - (text.size() - 1);
  }
  return std::nullopt;
}

bool KindReader::all_zero(std::uint64_t at, std::uint64_t length) {
  bool zero = true;
  each(at, length, [&](ByteView piece) { zero = zero && lantern::all_zero(piece); });
  return zero;
}

}  // namespace lantern::kinds
