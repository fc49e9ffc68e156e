#include "serve/net/dav/web_page.h"

#include <fmt/chrono.h>

#include <ctime>

#include "lantern/text.h"
#include "serve/net/dav/dav_names.h"

namespace lantern::net {
namespace {

constexpr std::string_view kStyle =
    "body{font:16px/1.45 system-ui,sans-serif;margin:0;color:#1c2733;background:#f5f7f9}"
    "header{background:#16324a;color:#fff;padding:1rem 1.5rem}"
    "header h1{font-size:1.15rem;margin:0 0 .25rem}header a{color:#cfe3f3}"
    "main{padding:1rem 1.5rem}form{margin:0 0 1rem}form a{margin-left:1rem}"
    "input{font:inherit;padding:.25rem .5rem}button{font:inherit;padding:.25rem .75rem}"
    "table{border-collapse:collapse;width:100%;background:#fff}"
    "th,td{text-align:left;padding:.35rem .75rem;border-bottom:1px solid #e1e7ec;"
    "vertical-align:top}td.n{overflow-wrap:anywhere;width:50%}"
    "th.s,td.s{text-align:right;white-space:nowrap}td.d{white-space:nowrap}"
    ".gone{color:#8a3b12}.soft{color:#5b6b79}pre{background:#fff;padding:1rem;overflow:auto;"
    "white-space:pre-wrap}img{max-width:100%;background:#fff}";

std::string head(const std::string& title, const std::vector<std::string>& path,
                 const std::string& what) {
  std::string way = "<a href=\"/\">top</a>";
  std::vector<std::string> above;
  for (const std::string& name : path) {
    above.push_back(name);
    way += fmt::format(" / <a href=\"{}\">{}</a>", for_markup(href(above, true)), for_markup(name));
  }
  return fmt::format(
      "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">"
      "<meta name=\"viewport\" content=\"width=device-width\"><title>{0}</title>"
      "<style>{1}</style></head>\n<body><header><h1>{0}</h1>{2}{3}</header>\n<main>\n",
      for_markup(title), kStyle, way, what.empty() ? "" : " : " + for_markup(what));
}

std::string date(std::int64_t seconds) {
  constexpr std::int64_t kFirst = -62135596800, kLast = 253402300799;
  if (seconds < kFirst || seconds > kLast) return "?";
  return fmt::format("{:%Y-%m-%d %H:%M} UTC", fmt::gmtime(static_cast<std::time_t>(seconds)));
}

std::string state(const SharedItem& item) {
  if (!item.deleted) return {};
  if (item.folder) return "<span class=\"gone\">deleted</span>";
  if (!item.intact) return "<span class=\"gone\">deleted, not known how much is left</span>";
  if (*item.intact == 1) return "<span class=\"gone\">deleted</span>, whole";
  return fmt::format("<span class=\"gone\">deleted, about {:.0f} % is left</span>",
                     std::min(*item.intact * 100, 99.0));
}

}  // namespace

std::string page_begin(const std::string& title, const std::vector<std::string>& folder,
                       const std::string& what) {
  return head(title, folder, what) +
         "<form method=\"get\"><input name=\"find\" aria-label=\"a part of a name\" "
         "placeholder=\"a part of a name\"> <button>Find below here</button> "
         "<a href=\"?zip\">all of it as a zip</a></form>\n"
         "<table><tr><th>Name</th><th class=\"s\">Bytes</th><th>Changed</th><th>State</th></tr>\n";
}

std::string page_row(const SharedItem& item, const std::vector<std::string>& path,
                     const std::string& shown) {
  const std::string_view type = shown_type(item.name);
  const bool looked_at = !item.folder && !type.starts_with("application/");
  const std::string address = for_markup(href(path, item.folder));
  return fmt::format(
      "<tr><td class=\"n\"><a href=\"{}\">{}{}</a>{}</td><td class=\"s\">{}</td>"
      "<td class=\"d\">{}</td><td>{}</td></tr>\n",
      address, for_markup(shown), item.folder ? "/" : "",
      looked_at ? " <a class=\"soft\" href=\"" + address + "?look\">look</a>" : "",
      item.folder ? "" : grouped(item.size_bytes), item.modified ? date(*item.modified) : "",
      state(item));
}

std::string page_end(const std::string& remark) {
  return "</table>\n" +
         (remark.empty() ? "" : "<p class=\"soft\">" + for_markup(remark) + "</p>\n") +
         "</main></body></html>\n";
}

std::string page_of_picture(const std::string& title, const std::vector<std::string>& path) {
  const std::string address = for_markup(href(path, false));
  return head(title, {path.begin(), path.end() - 1}, path.back()) +
         fmt::format("<p><a href=\"{0}\">the file itself</a></p><img src=\"{0}\" alt=\"{1}\">\n",
                     address, for_markup(path.back())) +
         "</main></body></html>\n";
}

std::string page_of_text(const std::string& title, const std::vector<std::string>& path,
                         std::string_view text, bool cut) {
  std::string lines;
  // Line by line: what makes lines stays, all other control characters are shown as such.
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    std::string line(text.substr(at, end - at));
    if (line.ends_with('\r')) line.pop_back();
    for (std::size_t tab = 0; (tab = line.find('\t', tab)) != std::string::npos;)
      line.replace(tab, 1, "    ");
    lines += for_markup(line) + '\n';
    at = end + 1;
  }
  return head(title, {path.begin(), path.end() - 1}, path.back()) +
         fmt::format("<p><a href=\"{}\">the file itself</a></p><pre>{}</pre>{}\n",
                     for_markup(href(path, false)), lines,
                     cut ? "<p class=\"soft\">This is its beginning.</p>" : "") +
         "</main></body></html>\n";
}

}  // namespace lantern::net
