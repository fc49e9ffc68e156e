// Keeping this computer off a disk until a machine takes it: a rule for the device manager (udev),
// so that nothing mounts it or puts its arrays and volume groups together, and a hold on the device
// itself.
//
//   const NamedDisk skua = find_disk(*this_host(), "SK-00961", context);
//   write_rule(keep_off_rule(skua));
//   HeldDisk hold(skua.facts.device);
//
// Thread-safety: the functions may be called from any thread; a hold belongs to one.
#pragma once

#include <optional>
#include <string>

#include "lantern/nest/disks.h"

namespace lantern {

struct KeepOffRule {
  std::string file;  // until the next start of the computer
  std::string text;
};

// By its serial number, WWN, the file behind it or its port. Throws Error{unsupported}: the system
// tells nothing lasting of it, or what it tells cannot stand in a rule.
KeepOffRule keep_off_rule(const NamedDisk& disk, const std::string& folder = "/run/udev/rules.d");

// Throws Error{cannot_write}.
void write_rule(const KeepOffRule& rule);
// False: there was none. Throws Error{cannot_write}.
bool remove_rule(const KeepOffRule& rule);
// Has the device manager read its rules, and look at the device, again. False: none runs here.
bool tell_device_manager(const std::string& device);

// The device held alone against mounts, arrays and the device manager, and set read-only; a machine
// can open it to read. When it goes, the device is as it was.
class HeldDisk {
 public:
  // Throws Error{refused}: another holds it; Error{cannot_open}.
  explicit HeldDisk(std::string device);
  HeldDisk(const HeldDisk&) = delete;
  HeldDisk& operator=(const HeldDisk&) = delete;
  ~HeldDisk();

  // Another process that has it open.
  std::optional<Holder> taken_by(const Host& host) const;

 private:
  std::string device_;
  int number_ = -1;
  bool set_read_only_ = false;
};

}  // namespace lantern
