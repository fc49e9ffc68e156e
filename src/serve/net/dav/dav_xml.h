// The bodies of WebDAV (RFC 4918): what a client asks of a file, and what it is told.
//
// Thread-safety: pure.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "serve/net/dav/shared_tree.h"

namespace lantern::net {

struct Property {
  std::string space;  // of its name: "DAV:"
  std::string name;
};

struct PropFind {
  bool all = true;
  bool names_only = false;
  std::vector<Property> wanted;  // where not all are
};
// An empty body asks for all. Empty: it is no such request.
std::optional<PropFind> parse_propfind(const std::string& body);

struct LockAsked {
  bool exclusive = true;
  std::string owner;  // as text
};
std::optional<LockAsked> parse_lock(const std::string& body);

// Head and end of what is told of several files, and what is told of one. `locks`: what
// lockdiscovery holds of it.
std::string multistatus_begin();
std::string multistatus_end();
std::string response(const SharedItem& item, const std::string& href, const PropFind& asked,
                     const std::string& locks);

}  // namespace lantern::net
