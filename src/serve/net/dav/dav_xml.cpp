#include "serve/net/dav/dav_xml.h"

#include <fmt/chrono.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <ctime>
#include <pugixml.hpp>

#include "serve/net/dav/dav_names.h"

namespace lantern::net {
namespace {

constexpr std::size_t kMaxProperties = 200;
constexpr std::size_t kMaxOwner = 1024;  // bytes
constexpr int kMaxNested = 64;

constexpr std::string_view kDav = "DAV:";
constexpr std::array<std::string_view, 9> kProperties = {
    "resourcetype", "displayname", "getcontentlength", "getcontenttype", "getlastmodified",
    "creationdate", "getetag",     "supportedlock",    "lockdiscovery"};

// The name of an element with the space its prefix stands for. Empty name: the prefix stands for
// none.
Property name_of(const pugi::xml_node& element) {
  const std::string full = element.name();
  const std::size_t colon = full.find(':');
  const std::string declared =
      colon == std::string::npos ? "xmlns" : "xmlns:" + full.substr(0, colon);
  Property property;
  property.name = colon == std::string::npos ? full : full.substr(colon + 1);
  int above = 0;
  for (pugi::xml_node at = element; at && above < kMaxNested; at = at.parent(), ++above)
    if (const pugi::xml_attribute space = at.attribute(declared.c_str())) {
      property.space = space.value();
      if (property.space.empty() && colon != std::string::npos) property.name.clear();
      return property;
    }
  if (colon != std::string::npos) property.name.clear();
  return property;
}

bool is(const pugi::xml_node& element, std::string_view name) {
  const Property own = name_of(element);
  return own.space == kDav && own.name == name;
}

bool load(pugi::xml_document& document, const std::string& body) {
  return document.load_buffer(body.data(), body.size());
}

std::string utc(std::int64_t seconds) {
  constexpr std::int64_t kFirst = 0, kLast = 253402300799;
  return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}",
                     fmt::gmtime(static_cast<std::time_t>(std::clamp(seconds, kFirst, kLast))));
}

// Empty: an item has no such one.
std::optional<std::string> value_of(const SharedItem& item, std::string_view name,
                                    const std::string& locks) {
  const auto of_file = [&](std::string text) {
    return item.folder ? std::nullopt : std::optional(std::move(text));
  };
  if (name == "resourcetype") return item.folder ? "<D:collection/>" : "";
  if (name == "displayname") return for_markup(item.name);
  if (name == "getcontentlength") return of_file(std::to_string(item.size_bytes));
  if (name == "getcontenttype") return of_file(std::string(shown_type(item.name)));
  if (name == "getetag") return of_file("\"" + item.tag + "\"");
  if (name == "getlastmodified" && item.modified) return http_date(*item.modified);
  if (name == "creationdate" && item.created) return utc(*item.created);
  if (name == "lockdiscovery") return locks;
  if (name == "supportedlock")
    return "<D:lockentry><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/>"
           "</D:locktype></D:lockentry><D:lockentry><D:lockscope><D:shared/></D:lockscope>"
           "<D:locktype><D:write/></D:locktype></D:lockentry>";
  return std::nullopt;
}

std::string element(const Property& property, const std::string& value) {
  const bool own = property.space == kDav;
  const std::string name = (own ? "D:" : "") + property.name;
  const std::string space = own ? "" : " xmlns=\"" + for_markup(property.space) + "\"";
  return value.empty() ? fmt::format("<{}{}/>", name, space)
                       : fmt::format("<{}{}>{}</{}>", name, space, value, name);
}

std::string propstat(const std::string& properties, std::string_view status) {
  return fmt::format(
      "<D:propstat><D:prop>{}</D:prop><D:status>HTTP/1.1 {}</D:status>"
      "</D:propstat>",
      properties, status);
}

}  // namespace

std::optional<PropFind> parse_propfind(const std::string& body) {
  PropFind asked;
  if (body.empty()) return asked;
  pugi::xml_document document;
  if (!load(document, body)) return std::nullopt;
  const pugi::xml_node root = document.document_element();
  if (!is(root, "propfind")) return std::nullopt;
  for (const pugi::xml_node& how : root.children()) {
    if (is(how, "allprop")) return asked;
    if (is(how, "propname")) {
      asked.names_only = true;
      return asked;
    }
    if (!is(how, "prop")) continue;
    asked.all = false;
    for (const pugi::xml_node& one : how.children()) {
      if (one.type() != pugi::node_element) continue;
      const Property property = name_of(one);
      if (property.name.empty() || asked.wanted.size() == kMaxProperties) return std::nullopt;
      asked.wanted.push_back(property);
    }
    return asked;
  }
  return std::nullopt;
}

std::optional<LockAsked> parse_lock(const std::string& body) {
  pugi::xml_document document;
  if (!load(document, body)) return std::nullopt;
  const pugi::xml_node root = document.document_element();
  if (!is(root, "lockinfo")) return std::nullopt;
  LockAsked asked;
  bool scoped = false;
  for (const pugi::xml_node& part : root.children()) {
    if (is(part, "owner")) {
      const pugi::xml_node inside = part.first_child();
      asked.owner = std::string(part.text().get()) + inside.text().get();
      if (asked.owner.size() > kMaxOwner) return std::nullopt;
    }
    if (!is(part, "lockscope")) continue;
    for (const pugi::xml_node& scope : part.children()) {
      scoped = scoped || is(scope, "exclusive") || is(scope, "shared");
      if (is(scope, "shared")) asked.exclusive = false;
    }
  }
  return scoped ? std::optional(asked) : std::nullopt;
}

std::string multistatus_begin() {
  return "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">\n";
}

std::string multistatus_end() {
  return "</D:multistatus>\n";
}

std::string response(const SharedItem& item, const std::string& href, const PropFind& asked,
                     const std::string& locks) {
  std::string there, missing;
  if (asked.all)
    for (const std::string_view name : kProperties) {
      const auto value = value_of(item, name, locks);
      if (value)
        there += element({std::string(kDav), std::string(name)},
                         asked.names_only ? std::string() : *value);
    }
  for (const Property& property : asked.wanted) {
    const auto value = property.space == kDav ? value_of(item, property.name, locks) : std::nullopt;
    (value ? there : missing) += element(property, value.value_or(std::string()));
  }
  std::string text = fmt::format("<D:response><D:href>{}</D:href>", for_markup(href));
  if (!there.empty() || missing.empty()) text += propstat(there, "200 OK");
  if (!missing.empty()) text += propstat(missing, "404 Not Found");
  return text + "</D:response>\n";
}

}  // namespace lantern::net
