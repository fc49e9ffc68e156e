// The login phase of a connection: who the initiator is, whether it knows the secret, and what both
// sides agree on.
// Source: RFC 7143, sections 6, 11.12, 11.13, 12 and 13.
//
// Thread-safety: one Login belongs to one connection.
#pragma once

#include <array>
#include <set>
#include <string>

#include "serve/net/iscsi/chap.h"
#include "serve/net/iscsi/pdu.h"
#include "serve/net/iscsi/text_keys.h"

namespace lantern::iscsi {

constexpr std::uint32_t kMaxConnections = 8;                                // of one session
constexpr std::uint32_t kMaxBurst = 1u << 20, kMaxFirstBurst = 256u << 10;  // bytes
constexpr std::size_t kMaxName = 223;                                       // bytes

// Who may log in, and to what.
struct Rules {
  std::string target;        // its name
  std::string user, secret;  // with an empty secret nobody is asked for one
  std::string own_secret;    // the target shows that it knows it, where it is asked; may be empty
  std::string initiator;     // the name of the only one that may; empty: any
};

struct Agreed {
  std::string initiator;
  std::array<std::byte, 6> isid{};  // the initiator's part of the session's name
  std::uint16_t session = 0;        // to join; 0: a new one
  std::uint16_t connection = 0;     // as the initiator numbers them
  bool discovery = false;
  bool header_digest = false, data_digest = false, immediate_data = true;
  std::uint32_t max_send = 8192;  // bytes of data the initiator takes with one unit
  std::uint32_t max_burst = 256u << 10, first_burst = 64u << 10;
  std::uint32_t max_connections = 1;
};

class Login {
 public:
  explicit Login(const Rules& rules) : rules_(rules) {}

  struct Step {
    Bytes head, text;  // of the answer; the numbers of the session are not in it yet
    LoginStatus status = kLoggedIn;
    bool done = false;       // the full feature phase begins
    bool was_wrong = false;  // the secret that was tried
  };
  Step take(const Pdu& request);

  const Agreed& agreed() const { return agreed_; }

 private:
  enum class Secret { method, algorithm, answer, shown };

  LoginStatus take_text(const std::vector<Key>& keys, Step& step);
  LoginStatus take_names(const std::vector<Key>& keys);
  LoginStatus prove(const std::vector<Key>& keys, Step& step);
  LoginStatus check_answer(const std::vector<Key>& keys, Step& step);
  void agree(const Key& key, Bytes& answer);
  // Of a number: the smaller of both; a value outside of its bounds is refused.
  struct Bounds {
    std::uint32_t least, most, own;
  };
  static std::uint32_t smaller(const Key& key, Bounds bounds, std::uint32_t standing,
                               Bytes& answer);

  const Rules& rules_;
  Agreed agreed_;
  int stage_ = -1;  // 0 security, 1 operational, 3 full feature; -1: nothing has come yet
  std::size_t steps_ = 0;
  Bytes text_;  // of a step in parts
  std::set<std::string> taken_;
  Secret secret_ = Secret::method;
  bool named_ = false, declared_ = false;
  ChapHash hash_{};
  std::uint8_t id_ = 0;
  Bytes challenge_;
};

}  // namespace lantern::iscsi
