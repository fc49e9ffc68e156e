#include <fmt/format.h>
#include <grp.h>
#include <pwd.h>
#include <sys/stat.h>

#include "lantern/physical/mapping.h"
#include "lantern/text.h"

namespace lantern {

std::vector<std::string> access_to(const std::string& device) {
  struct stat facts {};
  if (::stat(device.c_str(), &facts) != 0) return {};
  const passwd* const owner = ::getpwuid(facts.st_uid);
  const std::string user = owner != nullptr ? owner->pw_name : std::to_string(facts.st_uid);
  const group* const holders = ::getgrgid(facts.st_gid);
  const std::string name = holders != nullptr ? holders->gr_name : std::to_string(facts.st_gid);
  std::string who = fmt::format("{} may be opened for writing by {}", device, user);
  if ((facts.st_mode & S_IWGRP) != 0) who += " and the group " + name;
  if ((facts.st_mode & S_IWOTH) != 0) who += " and everybody";
  return {who, fmt::format("Access to this one device alone, until it is unplugged: setfacl -m "
                           "u:USER:rw {}",
                           for_shell(device))};
}

}  // namespace lantern
