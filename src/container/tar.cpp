#include "container/tar.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <map>
#include <set>

#include "base/bytes.h"

namespace lantern {
namespace {

constexpr std::uint64_t kRecord = 512;
constexpr std::size_t kMaxMembers = 100'000;
constexpr std::uint64_t kMaxHeader = 1u << 20;

using Members = std::map<std::string, Range>;  // by path: its content

class TarFolder final : public Neighbours {
 public:
  TarFolder(SourcePtr file, NameMember name_member, std::shared_ptr<const Members> members,
            std::string folder)
      : file_(std::move(file)),
        name_member_(std::move(name_member)),
        members_(std::move(members)),
        folder_(std::move(folder)) {}

  std::optional<SourcePtr> open(std::string_view raw_name) const override {
    const auto found = members_->find(folder_ + std::string(raw_name));
    if (found == members_->end()) return std::nullopt;
    return make_window(file_, found->second);
  }

  std::vector<std::string> names() const override { return below(false); }
  std::vector<std::string> folders() const override { return below(true); }

  std::string place(std::string_view raw_name) const override {
    return name_member_(folder_ + std::string(raw_name));
  }

  std::shared_ptr<const Neighbours> folder_of(std::string_view raw_name) const override {
    const std::string path = folder_ + std::string(raw_name);
    const std::size_t slash = path.rfind('/');
    return std::make_shared<TarFolder>(file_, name_member_, members_,
                                       slash == std::string::npos ? "" : path.substr(0, slash + 1));
  }

 private:
  std::vector<std::string> below(bool folders) const {
    std::set<std::string> found;
    for (auto at = members_->lower_bound(folder_);
         at != members_->end() && at->first.starts_with(folder_); ++at) {
      const std::string rest = at->first.substr(folder_.size());
      const std::size_t slash = rest.find('/');
      if ((slash != std::string::npos) == folders) found.insert(rest.substr(0, slash));
    }
    return {found.begin(), found.end()};
  }

  SourcePtr file_;
  NameMember name_member_;
  std::shared_ptr<const Members> members_;
  std::string folder_;  // "" or "sub/"
};

std::uint64_t number_of(ByteView field) {
  constexpr std::size_t kSizeField = 12;
  if ((u8(field, 0) & 0x80) != 0 && field.size() == kSizeField) return be64(field, 4);
  std::string text = text_of(field);
  text = text.substr(std::min(text.find_first_not_of(" 0"), text.size()));
  std::uint64_t value = 0;
  std::from_chars(text.data(), text.data() + text.size(), value, 8);
  return value;
}

bool sum_is_right(ByteView record) {
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i < kRecord; ++i)
    sum += i >= 148 && i < 156 ? std::uint64_t{' '} : u8(record, i);
  return sum == number_of(slice(record, 148, 8));
}

std::string text_field(ByteView record, std::size_t at, std::size_t length) {
  const std::string text = text_of(slice(record, at, length));
  return text.substr(0, text.find('\0'));
}

// "path" and "size" of a pax header: "12 path=name\n".
struct Pax {
  std::string path;
  std::optional<std::uint64_t> size;
};

Pax pax_of(const std::string& text) {
  Pax pax;
  for (std::size_t at = 0; at < text.size();) {
    std::size_t length = 0;
    const char* const from = text.data() + at;
    const auto [end, error] = std::from_chars(from, text.data() + text.size(), length);
    const auto head = static_cast<std::size_t>(end - from) + 1;
    if (error != std::errc{} || length <= head || length > text.size() - at) break;
    const std::string line = text.substr(at + head, length - head - 1);
    if (line.starts_with("path=")) pax.path = line.substr(5);
    std::uint64_t size = 0;
    if (line.starts_with("size=") &&
        std::from_chars(line.data() + 5, line.data() + line.size(), size).ec == std::errc{})
      pax.size = size;
    at += length;
  }
  return pax;
}

std::string plain(std::string path) {
  while (path.starts_with("./")) path.erase(0, 2);
  return path;
}

}  // namespace

std::shared_ptr<const Neighbours> open_tar(const SourcePtr& file, const NameMember& name_member,
                                           const Context& context) {
  auto members = std::make_shared<Members>();
  Pax pending;
  Bytes record(kRecord);
  for (std::uint64_t at = 0; at + kRecord <= file->size() && members->size() < kMaxMembers;) {
    file->read(at, record);
    if (all_zero(record)) break;  // the end
    if (!has_text(record, 257, "ustar") || !sum_is_right(record)) {
      if (at == 0) return nullptr;
      context.report(FindingCode::container_header, Severity::damage, {at, kRecord},
                     "tar: there is no member where the next one should begin",
                     "the members before it are read");
      break;
    }
    const std::uint64_t size = pending.size.value_or(number_of(slice(record, 124, 12)));
    const char type = static_cast<char>(u8(record, 156));
    const Range content = {at + kRecord, size};
    if (size > file->size() - at - kRecord)
      context.report(FindingCode::container_truncated, Severity::damage, content,
                     "tar: the file ends inside a member",
                     "what is missing is treated as unreadable");
    const auto text = [&] {
      Bytes bytes(static_cast<std::size_t>(std::min(size, kMaxHeader)));
      bytes.resize(file->read(content.offset, bytes).length);
      return text_of(bytes);
    };
    if (type == 'x') {
      pending = pax_of(text());
    } else if (type == 'L') {
      pending.path = text().substr(0, text().find('\0'));
    } else if (type != 'g') {
      std::string path = text_field(record, 0, 100);
      if (const std::string before = text_field(record, 345, 155); !before.empty())
        path.insert(0, before + "/");
      if (!pending.path.empty()) path = pending.path;
      if (type == '0' || type == '\0') members->emplace(plain(std::move(path)), content);
      pending = {};
    }
    if (size > file->size()) break;
    at += kRecord + (size + kRecord - 1) / kRecord * kRecord;
  }
  if (members->empty()) return nullptr;
  return std::make_shared<TarFolder>(file, name_member, std::move(members), "");
}

}  // namespace lantern
