#include "serve/net/iscsi/login.h"

#include <algorithm>

namespace lantern::iscsi {
namespace {

constexpr std::size_t kMaxSteps = 50;
constexpr int kSecurity = 0, kOperational = 1, kFullFeature = 3;

const std::string* value_of(const std::vector<Key>& keys, std::string_view name) {
  for (const Key& key : keys)
    if (key.name == name) return &key.value;
  return nullptr;
}

// Names go into logs and answers.
bool is_name(const std::string& text) {
  return !text.empty() && text.size() <= kMaxName &&
         std::all_of(text.begin(), text.end(), [](char c) { return c > ' ' && c != '\x7F'; });
}

bool has_item(const std::string& list, std::string_view wanted) {
  const std::vector<std::string> items = items_of(list);
  return std::find(items.begin(), items.end(), wanted) != items.end();
}

}  // namespace

Login::Step Login::take(const Pdu& request) {
  Step step;
  const int stage = request.flags() >> 2 & 3, next = request.flags() & 3;
  const bool wants_on = (request.flags() & kFinal) != 0;
  const bool goes_on = (request.flags() & kContinue) != 0;
  step.head = new_head(kLoginAnswer, static_cast<std::uint8_t>(stage << 2), request.tag());
  store_bytes(step.head, 8, ByteView(request.head).subspan(8, 8));
  const auto end = [&](LoginStatus status) {
    step.status = status;
    step.text.clear();
    step.head[1] = static_cast<std::byte>(stage << 2);
    store_be16(step.head, 36, status);
    return step;
  };
  if (request.opcode() != kLogin) return end(kNotDuringLogin);
  if (u8(request.head, 3) != 0) return end(kWrongVersion);
  if (++steps_ > kMaxSteps || (wants_on && goes_on)) return end(kInitiatorError);
  if (stage_ == -1) {
    stage_ = stage;
    std::copy_n(request.head.begin() + 8, 6, agreed_.isid.begin());
    agreed_.session = be16(request.head, 14);
    agreed_.connection = be16(request.head, 20);
  }
  if (stage != stage_ || (stage != kSecurity && stage != kOperational) ||
      text_.size() + request.data.size() > kMaxText)
    return end(kInitiatorError);
  text_.insert(text_.end(), request.data.begin(), request.data.end());
  if (goes_on) return step;
  const auto keys = read_keys(text_);
  text_.clear();
  const LoginStatus status = keys ? take_text(*keys, step) : kInitiatorError;
  if (status != kLoggedIn) return end(status);
  const bool nothing_asked = rules_.secret.empty() || agreed_.discovery;
  const bool may_go_on = secret_ == Secret::shown || (secret_ == Secret::method && nothing_asked);
  if (!wants_on || !may_go_on) return step;
  if (next <= stage || next == 2) return end(kInitiatorError);
  stage_ = next;
  step.done = next == kFullFeature;
  step.head[1] = static_cast<std::byte>(kFinal | stage << 2 | next);
  return step;
}

LoginStatus Login::take_text(const std::vector<Key>& keys, Step& step) {
  // The standing values hold for what is said once; the proof goes over several steps.
  for (const Key& key : keys)
    if (!key.name.starts_with("CHAP_") && !taken_.insert(key.name).second) return kInitiatorError;
  if (!named_) {
    const LoginStatus status = take_names(keys);
    if (status != kLoggedIn) return status;
    named_ = true;
    if (!agreed_.discovery) add_key(step.text, "TargetPortalGroupTag", "1");
  }
  if (stage_ == kSecurity) {
    const LoginStatus status = prove(keys, step);
    if (status != kLoggedIn) return status;
  } else if (!rules_.secret.empty() && !agreed_.discovery && secret_ != Secret::shown) {
    return kWrongPassword;
  }
  for (const Key& key : keys) agree(key, step.text);
  if (stage_ == kOperational && !declared_) {
    declared_ = true;
    add_key(step.text, "MaxRecvDataSegmentLength", std::to_string(kMaxData));
  }
  return kLoggedIn;
}

LoginStatus Login::take_names(const std::vector<Key>& keys) {
  const std::string* const initiator = value_of(keys, "InitiatorName");
  if (initiator == nullptr) return kMissingKey;
  if (!is_name(*initiator)) return kInitiatorError;
  agreed_.initiator = *initiator;
  const std::string* const type = value_of(keys, "SessionType");
  agreed_.discovery = type != nullptr && *type == "Discovery";
  if (type != nullptr && !agreed_.discovery && *type != "Normal") return kWrongSessionType;
  if (!rules_.initiator.empty() && rules_.initiator != *initiator) return kNotAllowed;
  if (agreed_.discovery) return kLoggedIn;
  const std::string* const target = value_of(keys, "TargetName");
  if (target == nullptr) return kMissingKey;
  return *target == rules_.target ? kLoggedIn : kNoTarget;
}

LoginStatus Login::prove(const std::vector<Key>& keys, Step& step) {
  if (secret_ == Secret::method) {
    const std::string* const methods = value_of(keys, "AuthMethod");
    if (methods == nullptr) return kLoggedIn;
    // What there is may be seen without a password; who would rather show one is asked for it.
    const bool asked =
        !rules_.secret.empty() && (!agreed_.discovery || items_of(*methods).front() == "CHAP");
    const char* const method = asked ? "CHAP" : "None";
    if (!has_item(*methods, method)) return kWrongPassword;
    add_key(step.text, "AuthMethod", method);
    secret_ = asked ? Secret::algorithm : Secret::shown;
    return kLoggedIn;
  }
  if (secret_ == Secret::algorithm) {
    const std::string* const offered = value_of(keys, "CHAP_A");
    const auto hash = offered != nullptr ? choose_chap(*offered) : std::nullopt;
    if (!hash) return kWrongPassword;
    hash_ = *hash;
    challenge_ = new_challenge(hash_);
    id_ = std::to_integer<std::uint8_t>(new_challenge(hash_).front());
    add_key(step.text, "CHAP_A", std::to_string(static_cast<int>(hash_)));
    add_key(step.text, "CHAP_I", std::to_string(id_));
    add_key(step.text, "CHAP_C", binary_text(challenge_));
    secret_ = Secret::answer;
    return kLoggedIn;
  }
  return secret_ == Secret::answer ? check_answer(keys, step) : kLoggedIn;
}

LoginStatus Login::check_answer(const std::vector<Key>& keys, Step& step) {
  step.was_wrong = true;
  const std::string* const name = value_of(keys, "CHAP_N");
  const std::string* const given = value_of(keys, "CHAP_R");
  const auto answer = given != nullptr ? binary_of(*given, kMaxChallenge) : std::nullopt;
  if (name == nullptr || !answer) return kWrongPassword;
  const bool right = is_same(chap_answer(hash_, id_, rules_.secret, challenge_), *answer);
  if (*name != rules_.user || !right) return kWrongPassword;
  const std::string* const id = value_of(keys, "CHAP_I");
  const std::string* const challenge = value_of(keys, "CHAP_C");
  if (challenge != nullptr || id != nullptr) {
    const std::uint64_t number = id != nullptr ? number_of(*id).value_or(256) : 256;
    const auto bytes = challenge != nullptr ? binary_of(*challenge, kMaxChallenge) : std::nullopt;
    // Who sends our own challenge back wants our answer to it.
    if (number > 255 || !bytes || bytes->empty() || *bytes == challenge_ ||
        rules_.own_secret.empty())
      return kWrongPassword;
    add_key(step.text, "CHAP_N", rules_.target);
    add_key(step.text, "CHAP_R",
            binary_text(
                chap_answer(hash_, static_cast<std::uint8_t>(number), rules_.own_secret, *bytes)));
  }
  step.was_wrong = false;
  secret_ = Secret::shown;
  return kLoggedIn;
}

std::uint32_t Login::smaller(const Key& key, Bounds bounds, std::uint32_t standing, Bytes& answer) {
  const auto number = number_of(key.value);
  if (!number || *number < bounds.least || *number > bounds.most) {
    add_key(answer, key.name, "Reject");
    return standing;
  }
  const std::uint32_t both = std::min(static_cast<std::uint32_t>(*number), bounds.own);
  add_key(answer, key.name, std::to_string(both));
  return both;
}

void Login::agree(const Key& key, Bytes& answer) {
  constexpr std::uint32_t kMax24 = (1u << 24) - 1;
  const std::string& name = key.name;
  // What was taken care of, or is only told.
  static const std::set<std::string> kTold = {"InitiatorName", "InitiatorAlias", "SessionType",
                                              "TargetName", "AuthMethod"};
  if (kTold.contains(name) || name.starts_with("CHAP_")) return;
  if (name == "MaxRecvDataSegmentLength") {
    const auto number = number_of(key.value);
    if (number && *number >= 512 && *number <= kMax24)
      agreed_.max_send = static_cast<std::uint32_t>(*number);
    return;
  }
  if (name == "HeaderDigest" || name == "DataDigest") {
    bool& digest = name == "HeaderDigest" ? agreed_.header_digest : agreed_.data_digest;
    const std::vector<std::string> items = items_of(key.value);
    const auto known = std::find_if(items.begin(), items.end(), [](const std::string& item) {
      return item == "CRC32C" || item == "None";
    });
    digest = known != items.end() && *known == "CRC32C";
    add_key(answer, name, known == items.end() ? "Reject" : *known);
    return;
  }
  const bool yes = key.value == "Yes";
  if (name == "InitialR2T" || name == "DataPDUInOrder" || name == "DataSequenceInOrder") {
    add_key(answer, name, "Yes");
  } else if (name == "ImmediateData") {
    agreed_.immediate_data = yes;
    add_key(answer, name, yes ? "Yes" : "No");
  } else if (name == "MaxConnections") {
    agreed_.max_connections = smaller(key, {1, 65535, kMaxConnections}, 1, answer);
  } else if (name == "MaxBurstLength") {
    agreed_.max_burst = smaller(key, {512, kMax24, kMaxBurst}, agreed_.max_burst, answer);
  } else if (name == "FirstBurstLength") {
    agreed_.first_burst = smaller(key, {512, kMax24, kMaxFirstBurst}, agreed_.first_burst, answer);
  } else if (name == "MaxOutstandingR2T") {
    smaller(key, {1, 65535, 1}, 1, answer);
  } else if (name == "DefaultTime2Wait") {
    smaller(key, {0, 3600, 3600}, 2, answer);
  } else if (name == "DefaultTime2Retain") {
    smaller(key, {0, 3600, 0}, 0, answer);
  } else if (name == "ErrorRecoveryLevel") {
    smaller(key, {0, 2, 0}, 0, answer);
  } else if (name == "IFMarker" || name == "OFMarker") {
    add_key(answer, name, "No");
  } else if (name == "IFMarkInt" || name == "OFMarkInt") {
    add_key(answer, name, "Irrelevant");
  } else if (name == "TaskReporting") {
    add_key(answer, name, has_item(key.value, "RFC3720") ? "RFC3720" : "Reject");
  } else if (name == "iSCSIProtocolLevel") {
    smaller(key, {0, 31, 1}, 1, answer);
  } else {
    add_key(answer, name, "NotUnderstood");
  }
}

}  // namespace lantern::iscsi
