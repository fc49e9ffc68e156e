#include "serve/net/iscsi/scsi/reservations.h"

#include <algorithm>
#include <vector>

#include "base/store.h"

namespace lantern::scsi {
namespace {

constexpr Fault kReservationsPreempted{kUnitAttention, 0x2A03};
constexpr Fault kReservationsReleased{kUnitAttention, 0x2A04};
constexpr Fault kRegistrationsPreempted{kUnitAttention, 0x2A05};
constexpr Fault kWrongRelease{kIllegalRequest, 0x2604};

enum Type : std::uint8_t {
  kWriteExclusive = 1,
  kExclusive = 3,
  kWriteExclusiveRegistered = 5,
  kExclusiveRegistered = 6,
  kWriteExclusiveAll = 7,
  kExclusiveAll = 8
};

bool is_type(std::uint8_t type) {
  return type == 1 || type == 3 || (type >= 5 && type <= 8);
}
// Whoever is registered may as much as who holds it.
bool is_for_registered(std::uint8_t type) {
  return type >= kWriteExclusiveRegistered;
}
bool is_held_by_all(std::uint8_t type) {
  return type >= kWriteExclusiveAll;
}
bool lets_read(std::uint8_t type) {
  return type == kWriteExclusive || type == kWriteExclusiveRegistered || type == kWriteExclusiveAll;
}

enum Action : std::uint8_t {
  kRegister = 0,
  kReserve = 1,
  kRelease = 2,
  kClear = 3,
  kPreempt = 4,
  kPreemptAndAbort = 5,
  kRegisterWhatever = 6
};

constexpr std::size_t kListBytes = 24;

// An initiator's port as the standard names it: kind and format 1, length 2 (from byte 2), text.
Bytes transport_of(const Nexus& nexus) {
  const std::size_t length = std::max<std::size_t>((nexus.size() + 1 + 3) / 4 * 4, 20);
  Bytes id(4 + length);
  id[0] = std::byte{0x45};
  store_be16(id, 2, length);
  store_text(id, 4, nexus);
  return id;
}

}  // namespace

bool Reservations::holds(const Nexus& nexus) const {
  return held_ && (is_held_by_all(held_->type) ? is_registered(nexus) : held_->holder == nexus);
}

bool Reservations::allows(const Nexus& nexus, Needs needs) const {
  if (needs == Needs::nothing) return true;
  if (simple_ && *simple_ != nexus) return false;
  if (!held_ || holds(nexus)) return true;
  if (is_for_registered(held_->type) && is_registered(nexus)) return true;
  return needs == Needs::to_read && lets_read(held_->type);
}

Bytes Reservations::list(ByteView cdb) const {
  const std::uint8_t action = u8(cdb, 1) & 0x1F;
  Bytes data(8);
  store_be32(data, 0, generation_);
  if (action == 0) {
    for (const auto& [nexus, key] : keys_) {
      data.resize(data.size() + 8);
      store_be64(data, data.size() - 8, key);
    }
  } else if (action == 1) {
    if (held_) {
      data.resize(24);
      if (!is_held_by_all(held_->type)) store_be64(data, 8, keys_.at(held_->holder));
      data[21] = static_cast<std::byte>(held_->type);
    }
  } else if (action == 2) {
    store_be16(data, 0, data.size());
    data[2] = std::byte{0x10};  // RESERVE is good for who has registered
    data[3] = std::byte{0x80};  // the types that follow
    data[4] = std::byte{0xEA};
    data[5] = std::byte{0x01};
    return data;
  } else {
    for (const auto& [nexus, key] : keys_) {
      const Bytes id = transport_of(nexus);
      Bytes one(24);
      store_be64(one, 0, key);
      if (holds(nexus)) {
        one[12] = std::byte{1};
        one[13] = static_cast<std::byte>(held_->type);
      }
      store_be16(one, 18, 1);  // port
      store_be32(one, 20, id.size());
      data.insert(data.end(), one.begin(), one.end());
      data.insert(data.end(), id.begin(), id.end());
    }
  }
  store_be32(data, 4, data.size() - 8);
  return data;
}

Status Reservations::change(const Nexus& nexus, ByteView cdb, ByteView list, Fault& fault) {
  const std::uint8_t action = u8(cdb, 1) & 0x1F, scope = u8(cdb, 2) >> 4, type = u8(cdb, 2) & 0xF;
  const auto wrong = [&](const Fault& what) {
    fault = what;
    return Status::check;
  };
  if (list.size() != kListBytes) return wrong(kListTooShort);
  // For other ports, and over an end of power: neither is.
  if ((u8(list, 20) & 0x09) != 0) return wrong(wrong_parameter(20));
  if (simple_ && *simple_ != nexus) return Status::conflict;
  const std::uint64_t own = be64(list, 0), other = be64(list, 8);
  if (action == kRegister || action == kRegisterWhatever)
    return sign_in(nexus, own, action == kRegisterWhatever, other);
  const auto known = keys_.find(nexus);
  if (known == keys_.end() || known->second != own) return Status::conflict;
  if (action == kClear) {
    ++generation_;
    tell_others(nexus, kReservationsPreempted);
    keys_.clear();
    held_.reset();
    return Status::good;
  }
  if (scope != 0 || !is_type(type)) return wrong(wrong_field(2));
  if (action == kReserve) return hold(nexus, type);
  if (action == kRelease) return let_go(nexus, type, fault);
  return preempt(nexus, other, type, fault);
}

Status Reservations::sign_in(const Nexus& nexus, std::uint64_t key, bool whatever_it_was,
                             std::uint64_t given) {
  const auto known = keys_.find(nexus);
  if (!whatever_it_was && key != (known == keys_.end() ? 0 : known->second))
    return Status::conflict;
  if (known == keys_.end() && given == 0) return Status::good;
  if (known == keys_.end() && keys_.size() == kMaxRegistered) return Status::full;
  ++generation_;
  if (given == 0)
    sign_out(nexus);
  else
    keys_[nexus] = given;
  return Status::good;
}

// What it alone holds ends with it; what all hold, with the last.
void Reservations::sign_out(const Nexus& nexus) {
  const bool held = holds(nexus);
  keys_.erase(nexus);
  if (!held || (is_held_by_all(held_->type) && !keys_.empty())) return;
  if (is_for_registered(held_->type)) tell_others(nexus, kReservationsReleased);
  held_.reset();
}

Status Reservations::hold(const Nexus& nexus, std::uint8_t type) {
  if (held_) return holds(nexus) && held_->type == type ? Status::good : Status::conflict;
  held_ = Held{nexus, type};
  return Status::good;
}

Status Reservations::let_go(const Nexus& nexus, std::uint8_t type, Fault& fault) {
  if (!holds(nexus)) return Status::good;
  if (held_->type != type) {
    fault = kWrongRelease;
    return Status::check;
  }
  if (is_for_registered(type)) tell_others(nexus, kReservationsReleased);
  held_.reset();
  return Status::good;
}

Status Reservations::preempt(const Nexus& nexus, std::uint64_t key, std::uint8_t type,
                             Fault& fault) {
  const bool all = held_ && is_held_by_all(held_->type);
  if (key == 0 && !all) {
    fault = wrong_parameter(8);
    return Status::check;
  }
  const auto goes = [&](const auto& one) {
    return one.first != nexus && (key == 0 || one.second == key);
  };
  const bool takes = held_ && (all ? key == 0 : keys_.at(held_->holder) == key);
  std::vector<Nexus> gone;
  for (const auto& one : keys_)
    if (goes(one)) gone.push_back(one.first);
  if (gone.empty() && !takes) return Status::conflict;
  ++generation_;
  for (const Nexus& one : gone) {
    keys_.erase(one);
    tell_(one, kRegistrationsPreempted);
  }
  if (takes) {
    const bool changed = held_->type != type;
    held_ = Held{nexus, type};
    if (changed) tell_others(nexus, kReservationsReleased);
  }
  return Status::good;
}

void Reservations::tell_others(const Nexus& nexus, const Fault& fault) const {
  for (const auto& [other, key] : keys_)
    if (other != nexus) tell_(other, fault);
}

Status Reservations::reserve(const Nexus& nexus) {
  // Who has registered uses the newer kind.
  if (!keys_.empty()) return is_registered(nexus) ? Status::good : Status::conflict;
  if (simple_ && *simple_ != nexus) return Status::conflict;
  simple_ = nexus;
  return Status::good;
}

Status Reservations::release(const Nexus& nexus) {
  if (!keys_.empty()) return is_registered(nexus) ? Status::good : Status::conflict;
  if (simple_ == nexus) simple_.reset();
  return Status::good;
}

void Reservations::ended(const Nexus& nexus) {
  if (simple_ == nexus) simple_.reset();
}

}  // namespace lantern::scsi
