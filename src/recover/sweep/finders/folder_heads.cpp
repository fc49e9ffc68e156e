#include "recover/sweep/finders/folder_heads.h"

namespace lantern {

void load_heads(Database& database, std::string_view format, std::uint64_t swept_to,
                Kept<FolderHead>& heads) {
  Statement rows = database.prepare(
      "SELECT offset, number, parent FROM folder_head WHERE format = ? AND offset < ? "
      "ORDER BY offset");
  rows.bind(1, format).bind(2, swept_to);
  while (rows.step())
    heads.add({rows.number(0), static_cast<std::uint32_t>(rows.number(1)),
               static_cast<std::uint32_t>(rows.number(2))});
  heads.each_new([](const FolderHead&) {});
}

void save_heads(Database& database, std::string_view format, Kept<FolderHead>& heads) {
  Statement add = database.prepare("INSERT OR IGNORE INTO folder_head VALUES(?, ?, ?, ?)");
  heads.each_new([&](const FolderHead& head) {
    add.bind(1, format).bind(2, head.offset).bind(3, std::uint64_t{head.number});
    add.bind(4, std::uint64_t{head.parent}).run();
  });
}

}  // namespace lantern
