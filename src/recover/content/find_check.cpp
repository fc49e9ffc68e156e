#include "recover/content/find_check.h"

#include "base/kinds/content_kind.h"
#include "contents/inside.h"
#include "lantern/sources.h"

namespace lantern {

std::optional<CatalogFind> check_find(const SourcePtr& disk, std::uint64_t offset,
                                      const SignatureKind& kind, std::uint64_t max_work,
                                      const Context& context, FollowedContent& followed) {
  const SourcePtr bytes = make_window(disk, {offset, disk->size() - offset});
  const auto got = follow_content(*bytes, kind, max_work, context);
  if (!got || got->length == 0) return std::nullopt;
  followed = *got;
  CatalogFind find;
  find.offset = offset;
  find.kind = kind.name;
  if (kind.check == "zip") {
    Bytes start(std::min<std::uint64_t>(kKindBytes, followed.length));
    bytes->read(0, start);
    find.kind = content_kind(start);
  }
  find.grade = followed.grade;
  find.verified = followed.verified;
  find.breaks = followed.breaks_before;
  find.pieces = {{offset, followed.length}};
  find.evidence = followed.why;
  const kinds::Inside inside =
      kinds::look_inside(*make_window(disk, {offset, followed.length}), kind.check, context);
  find.title = inside.title;
  find.time = inside.time;
  return find;
}

}  // namespace lantern
