#include <gtest/gtest.h>

#include <map>

#include "kit/bytes.h"
#include "serve/net/iscsi/login.h"

namespace lantern::iscsi {
namespace {

using Pairs = std::vector<Key>;

constexpr int kSecurity = 0, kOperational = 1, kFull = 3;
constexpr const char* kTarget = "iqn.2026-11.internal.lantern:station.vdi.00c0ffee";

Pairs names(Pairs more = {}) {
  Pairs all = {{"InitiatorName", "iqn.2026-11.internal.skerrow:bench"}, {"TargetName", kTarget}};
  all.insert(all.end(), more.begin(), more.end());
  return all;
}

Pdu request(int stage, int next, const Pairs& keys) {
  Pdu pdu;
  pdu.head = new_head(
      kLogin, static_cast<std::uint8_t>((next > stage ? kFinal | next : 0) | stage << 2), 7);
  for (const Key& key : keys) add_key(pdu.data, key.name, key.value);
  return pdu;
}

std::map<std::string, std::string> told(const Login::Step& step) {
  std::map<std::string, std::string> all;
  const auto keys = read_keys(step.text);
  if (keys)
    for (const Key& key : *keys) all[key.name] = key.value;
  return all;
}

TEST(IscsiKeys, TextIsReadAsItWasWritten) {
  Bytes text;
  add_key(text, "AuthMethod", "CHAP,None");
  add_key(text, "X-lamp", "");
  const auto keys = read_keys(text);
  ASSERT_TRUE(keys);
  ASSERT_EQ(keys->size(), 2u);
  EXPECT_EQ((*keys)[0].value, "CHAP,None");
  EXPECT_EQ((*keys)[1].value, "");
  EXPECT_EQ(items_of("CHAP,None"), (std::vector<std::string>{"CHAP", "None"}));
}

TEST(IscsiKeys, WhatIsNoTextIsRefused) {
  for (const std::string one : {"no border", "=value", "AuthMethod"})
    EXPECT_FALSE(read_keys(std::as_bytes(std::span(one)))) << one;
  const std::string long_name = std::string(64, 'x') + "=1";
  EXPECT_FALSE(read_keys(std::as_bytes(std::span(long_name))));
  Bytes many;
  for (std::size_t i = 0; i <= kMaxKeys; ++i) add_key(many, "a", "b");
  EXPECT_FALSE(read_keys(many));
  EXPECT_FALSE(read_keys(Bytes(kMaxText + 1)));
}

TEST(IscsiKeys, NumbersAndBinaryValues) {
  EXPECT_EQ(number_of("262144"), 262144u);
  EXPECT_EQ(number_of("0x40000"), 262144u);
  for (const char* const none : {"", "-1", "1x", "0x", "99999999999999999999999"})
    EXPECT_FALSE(number_of(none)) << none;
  EXPECT_EQ(binary_of("0xA0b", 16), (Bytes{std::byte{0x0A}, std::byte{0x0B}}));
  EXPECT_EQ(binary_of("0bCgs=", 16), (Bytes{std::byte{0x0A}, std::byte{0x0B}}));
  EXPECT_EQ(binary_text(Bytes{std::byte{0x0A}, std::byte{0xB0}}), "0x0ab0");
  for (const char* const none : {"0xZZ", "0a0b", "", "0x000102030405"})
    EXPECT_FALSE(binary_of(none, 4)) << none;
}

TEST(IscsiKeys, UnitsAreNamedByTheirNumbers) {
  for (const unsigned number : {0u, 1u, 255u, 256u, 1000u})
    EXPECT_EQ(unit_number(unit_field(static_cast<std::uint16_t>(number))), number);
  EXPECT_FALSE(unit_number(0xC101000000000000)) << "a well-known unit";
  EXPECT_FALSE(unit_number(1)) << "a unit behind another";
}

TEST(IscsiLogin, WithoutAPasswordBothSidesAgreeAtOnce) {
  const Rules rules{kTarget, {}, {}, {}, {}};
  Login login(rules);
  const Login::Step step = login.take(request(kOperational, kFull,
                                              names({{"HeaderDigest", "CRC32C,None"},
                                                     {"DataDigest", "None"},
                                                     {"InitialR2T", "No"},
                                                     {"ImmediateData", "No"},
                                                     {"MaxBurstLength", "16777215"},
                                                     {"MaxConnections", "0"},
                                                     {"ErrorRecoveryLevel", "2"},
                                                     {"MaxRecvDataSegmentLength", "4096"},
                                                     {"X-lamp", "on"}})));
  ASSERT_EQ(step.status, kLoggedIn);
  EXPECT_TRUE(step.done);
  EXPECT_EQ(u8(step.head, 1), kFinal | kOperational << 2 | kFull);
  auto answer = told(step);
  EXPECT_EQ(answer["TargetPortalGroupTag"], "1");
  EXPECT_EQ(answer["HeaderDigest"], "CRC32C");
  EXPECT_EQ(answer["DataDigest"], "None");
  EXPECT_EQ(answer["InitialR2T"], "Yes") << "only what was asked for is sent";
  EXPECT_EQ(answer["ImmediateData"], "No");
  EXPECT_EQ(answer["MaxBurstLength"], std::to_string(kMaxBurst));
  EXPECT_EQ(answer["MaxConnections"], "Reject");
  EXPECT_EQ(answer["ErrorRecoveryLevel"], "0");
  EXPECT_EQ(answer["X-lamp"], "NotUnderstood");
  EXPECT_EQ(answer["MaxRecvDataSegmentLength"], std::to_string(kMaxData));
  EXPECT_EQ(login.agreed().max_send, 4096u);
  EXPECT_TRUE(login.agreed().header_digest);
  EXPECT_FALSE(login.agreed().immediate_data);
}

TEST(IscsiLogin, WhatDoesNotFitIsRefusedWithItsReason) {
  const Rules rules{kTarget, {}, {}, {}, "iqn.2026-11.internal.skerrow:bench"};
  const auto status = [&](const Pdu& pdu) { return Login(rules).take(pdu).status; };
  EXPECT_EQ(status(request(kOperational, kFull, names())), kLoggedIn);
  EXPECT_EQ(status(request(kOperational, kFull, {{"TargetName", kTarget}})), kMissingKey);
  EXPECT_EQ(
      status(request(kOperational, kFull, {{"InitiatorName", "other"}, {"TargetName", kTarget}})),
      kNotAllowed);
  EXPECT_EQ(status(request(
                kOperational, kFull,
                {{"InitiatorName", "iqn.2026-11.internal.skerrow:bench"}, {"TargetName", "x"}})),
            kNoTarget);
  EXPECT_EQ(status(request(kOperational, kFull, names({{"SessionType", "Storm"}}))),
            kWrongSessionType);
  EXPECT_EQ(
      status(request(kOperational, kFull, names({{"DataDigest", "None"}, {"DataDigest", "None"}}))),
      kInitiatorError)
      << "a key said twice";
  EXPECT_EQ(status(request(kOperational, 2, names())), kInitiatorError) << "a stage there is not";
  EXPECT_EQ(status(request(2, kFull, names())), kInitiatorError);
  Pdu later = request(kOperational, kFull, names());
  later.head[3] = std::byte{1};
  EXPECT_EQ(status(later), kWrongVersion);
  Pdu command = request(kOperational, kFull, names());
  command.head[0] = std::byte{kCommand};
  EXPECT_EQ(status(command), kNotDuringLogin);
  const std::string bell = "iqn\x07";
  EXPECT_EQ(
      status(request(kOperational, kFull, {{"InitiatorName", bell}, {"TargetName", kTarget}})),
      kInitiatorError);
}

// The steps of a proof, up to the challenge.
struct Proof {
  explicit Proof(const Rules& rules, const std::string& algorithms = "5,7") : login(rules) {
    login.take(request(kSecurity, kSecurity, names({{"AuthMethod", "CHAP"}})));
    const Login::Step step = login.take(request(kSecurity, kSecurity, {{"CHAP_A", algorithms}}));
    status = step.status;
    auto answer = told(step);
    algorithm = answer["CHAP_A"];
    id = static_cast<std::uint8_t>(number_of(answer["CHAP_I"]).value_or(0));
    challenge = answer["CHAP_C"];
  }
  Login::Step prove(const std::string& name, const std::string& secret, Pairs more = {}) {
    const auto hash = algorithm == "7" ? ChapHash::sha256 : ChapHash::md5;
    const Bytes bytes = binary_of(challenge, kMaxChallenge).value_or(Bytes());
    Pairs keys = {{"CHAP_N", name}, {"CHAP_R", binary_text(chap_answer(hash, id, secret, bytes))}};
    keys.insert(keys.end(), more.begin(), more.end());
    return login.take(request(kSecurity, kOperational, keys));
  }
  Login login;
  LoginStatus status{};
  std::string algorithm, challenge;
  std::uint8_t id = 0;
};

TEST(IscsiLogin, TheRightSecretLetsIn) {
  const Rules rules{kTarget, "keeper", "gannet-on-a-rock", "lamp-that-turns1", {}};
  for (const char* const algorithms : {"5", "7", "9,7,5"}) {
    Proof proof(rules, algorithms);
    EXPECT_EQ(proof.prove("keeper", rules.secret).status, kLoggedIn) << algorithms;
    EXPECT_TRUE(proof.login.take(request(kOperational, kFull, {})).done);
  }
  EXPECT_EQ(Proof(rules, "9,7,5").algorithm, "7") << "the best of them";
  EXPECT_EQ(Proof(rules, "9").status, kWrongPassword);
}

TEST(IscsiLogin, NothingElseDoes) {
  const Rules rules{kTarget, "keeper", "gannet-on-a-rock", "lamp-that-turns1", {}};
  EXPECT_EQ(Login(rules).take(request(kOperational, kFull, names())).status, kWrongPassword)
      << "past the stage in which it is asked";
  EXPECT_EQ(
      Login(rules).take(request(kSecurity, kOperational, names({{"AuthMethod", "None"}}))).status,
      kWrongPassword);
  // To the next stage without a proof: it stays.
  Login silent(rules);
  EXPECT_FALSE(silent.take(request(kSecurity, kFull, names())).done);
  Proof other(rules);
  EXPECT_TRUE(other.prove("keeper", "gannet-on-a-roof").was_wrong);
  EXPECT_EQ(Proof(rules).prove("gannet", rules.secret).status, kWrongPassword);
  // Our own challenge sent back would have us answer it.
  Proof mirror(rules);
  const std::string challenge = mirror.challenge;
  EXPECT_EQ(mirror.prove("keeper", rules.secret, {{"CHAP_I", "1"}, {"CHAP_C", challenge}}).status,
            kWrongPassword);
}

TEST(IscsiLogin, TheTargetProvesItselfWhereItIsAsked) {
  const Rules rules{kTarget, "keeper", "gannet-on-a-rock", "lamp-that-turns1", {}};
  Proof proof(rules, "7");
  const Bytes own(32, std::byte{0x5A});
  auto answer =
      told(proof.prove("keeper", rules.secret, {{"CHAP_I", "9"}, {"CHAP_C", binary_text(own)}}));
  EXPECT_EQ(answer["CHAP_N"], kTarget);
  EXPECT_EQ(answer["CHAP_R"], binary_text(chap_answer(ChapHash::sha256, 9, rules.own_secret, own)));
  const Rules without{kTarget, "keeper", "gannet-on-a-rock", {}, {}};
  EXPECT_EQ(
      Proof(without).prove("keeper", rules.secret, {{"CHAP_I", "9"}, {"CHAP_C", "0x5a"}}).status,
      kWrongPassword);
}

TEST(IscsiLogin, ATextInPartsIsOne) {
  const Rules rules{kTarget, {}, {}, {}, {}};
  Login login(rules);
  Pdu whole = request(kOperational, kFull, names());
  Pdu first = whole, second = whole;
  first.head[1] = static_cast<std::byte>(kContinue | kOperational << 2);
  first.data.resize(10);
  second.data.erase(second.data.begin(), second.data.begin() + 10);
  EXPECT_FALSE(login.take(first).done);
  EXPECT_TRUE(login.take(second).done);
  Login endless(rules);
  first.data.resize(kMaxData);
  LoginStatus status = kLoggedIn;
  for (int i = 0; i < 3 && status == kLoggedIn; ++i) status = endless.take(first).status;
  EXPECT_EQ(status, kInitiatorError);
}

TEST(IscsiLogin, SecretsAreOfEnoughSigns) {
  const std::string one = new_secret(), other = new_secret();
  EXPECT_EQ(one.size(), 16u);
  EXPECT_NE(one, other);
  EXPECT_TRUE(is_same(Bytes(3), Bytes(3)));
  EXPECT_FALSE(is_same(Bytes(3), Bytes(4)));
}

}  // namespace
}  // namespace lantern::iscsi
