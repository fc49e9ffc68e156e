// The page of a share for browsers: a folder as a table, a file that is looked at.
//
// Thread-safety: pure.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "serve/net/dav/shared_tree.h"

namespace lantern::net {

// Up to the first row. `what`: what is shown, behind the way to the folder; may be empty.
std::string page_begin(const std::string& title, const std::vector<std::string>& folder,
                       const std::string& what);
// A row. `path`: of the item; `shown`: its name, or its path from the folder that was searched.
std::string page_row(const SharedItem& item, const std::vector<std::string>& path,
                     const std::string& shown);
std::string page_end(const std::string& remark);

// A file that is looked at: a picture by its address, a text by its first bytes.
std::string page_of_picture(const std::string& title, const std::vector<std::string>& path);
std::string page_of_text(const std::string& title, const std::vector<std::string>& path,
                         std::string_view text, bool cut);

}  // namespace lantern::net
