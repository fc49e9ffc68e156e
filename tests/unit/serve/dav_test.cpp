#include <gtest/gtest.h>

#include <fstream>

#include "kit/bytes.h"
#include "lantern/text.h"
#include "serve/net/dav/access.h"
#include "serve/net/dav/dav_locks.h"
#include "serve/net/dav/dav_names.h"
#include "serve/net/dav/dav_xml.h"
#include "serve/net/dav/web_page.h"

namespace lantern::net {
namespace {

using Names = std::vector<std::string>;

TEST(DavNames, APathIsSplitBeforeItIsDecoded) {
  const auto path = share_path("/Nest%20counts/ledge%231.csv?look");
  ASSERT_TRUE(path);
  EXPECT_EQ(path->names, (Names{"Nest counts", "ledge#1.csv"}));
  EXPECT_EQ(path->query, "look");
  EXPECT_FALSE(path->ends_in_slash);
  EXPECT_EQ(href(path->names, false), "/Nest%20counts/ledge%231.csv");
  EXPECT_EQ(href({}, true), "/");
  EXPECT_EQ(share_path("http://192.168.7.4:8443/a//b/./")->names, (Names{"a", "b"}));
  EXPECT_EQ(share_path("/%FF%20")->names, Names{"\xFF "});
}

TEST(DavNames, WhatClimbsIsNoPath) {
  for (const char* const target : {"/..", "/a/../../etc", "/%2e%2e/x", "/a/%2E%2e", "/a%2fb",
                                   "/a%00b", "a/b", "", "*", "/%4", "/%zz", "http:/x"})
    EXPECT_FALSE(share_path(target)) << target;
  std::string deep;
  for (int i = 0; i < 600; ++i) deep += "/a";
  EXPECT_FALSE(share_path(deep));
}

TEST(DavNames, MarkupOfANameRunsNothing) {
  EXPECT_EQ(for_markup("<img src=x onerror='a()'>&\""),
            "&lt;img src=x onerror=&#39;a()&#39;&gt;&amp;&quot;");
  const SharedItem item{"\"><script>.txt", false, false, 1, {}, {}, {}, "t"};
  EXPECT_EQ(page_row(item, {item.name}, item.name).find("<script"), std::string::npos);
  EXPECT_EQ(shown_type("page.html"), "application/octet-stream");
  EXPECT_EQ(shown_type("drawing.SVG"), "application/octet-stream");
  EXPECT_EQ(shown_type("Lamp room.JPG"), "image/jpeg");
}

TEST(DavNames, RangesLieInsideTheContent) {
  bool past_end = false;
  const auto of = [&](const char* header, std::uint64_t size) {
    return byte_range(header, size, past_end);
  };
  EXPECT_EQ(of("bytes=2-5", 10)->from, 2u);
  EXPECT_EQ(of("bytes=2-5", 10)->length, 4u);
  EXPECT_EQ(of("bytes=2-", 10)->length, 8u);
  EXPECT_EQ(of("bytes=-3", 10)->from, 7u);
  EXPECT_EQ(of("bytes=-30", 10)->length, 10u);
  EXPECT_EQ(of("bytes=8-18446744073709551615", 10)->length, 2u);
  for (const char* const none : {"bytes=5-2", "bytes=0-1,3-4", "bytes=x-", "bytes=-", "items=0-1",
                                 "bytes=99999999999999999999-"}) {
    EXPECT_FALSE(of(none, 10)) << none;
    EXPECT_FALSE(past_end) << none;
  }
  EXPECT_FALSE(of("bytes=10-", 10));
  EXPECT_TRUE(past_end);
  EXPECT_FALSE(of("bytes=-0", 10));
  EXPECT_TRUE(past_end);
  EXPECT_FALSE(of("bytes=0-", 0));
  EXPECT_TRUE(past_end);
}

TEST(DavNames, DatesComeBack) {
  EXPECT_EQ(http_date(1773477000), "Sat, 14 Mar 2026 08:30:00 GMT");
  EXPECT_EQ(parse_http_date("Sat, 14 Mar 2026 08:30:00 GMT"), 1773477000);
  EXPECT_FALSE(parse_http_date("yesterday"));
  EXPECT_EQ(http_date(std::numeric_limits<std::int64_t>::max()), "Fri, 31 Dec 9999 23:59:59 GMT");
}

TEST(DavXml, PropertiesAreNamedByTheirSpaces) {
  const auto asked = parse_propfind(
      "<?xml version=\"1.0\"?><a:propfind xmlns:a='DAV:' xmlns:s='urn:skerrow'><a:prop>"
      "<a:getcontentlength/><s:keeper/><plain xmlns=''/></a:prop></a:propfind>");
  ASSERT_TRUE(asked);
  ASSERT_EQ(asked->wanted.size(), 3u);
  EXPECT_EQ(asked->wanted[1].space, "urn:skerrow");
  SharedItem item;
  item.name = "log.txt";
  item.size_bytes = 42;
  const std::string told = response(item, "/log.txt", *asked, {});
  EXPECT_NE(told.find("<D:getcontentlength>42</D:getcontentlength></D:prop><D:status>HTTP/1.1 200"),
            std::string::npos)
      << told;
  EXPECT_NE(told.find("<keeper xmlns=\"urn:skerrow\"/>"), std::string::npos) << told;
  EXPECT_NE(told.find("404 Not Found"), std::string::npos);
}

TEST(DavXml, WhatIsNoRequestIsRefused) {
  EXPECT_TRUE(parse_propfind("")->all);
  for (const char* const body :
       {"<propfind/>", "<D:propfind xmlns:D='DAV:'/>", "no xml",
        "<D:propfind xmlns:D='DAV:'><D:prop><bad:foo/></D:prop></D:propfind>",
        "<D:propfind xmlns:D='DAV:'><D:prop><bad:foo xmlns:bad=''/></D:prop></D:propfind>"})
    EXPECT_FALSE(parse_propfind(body)) << body;
  // An entity of its own stands for nothing here, so that none can grow.
  const auto asked = parse_lock(
      "<!DOCTYPE x [<!ENTITY a 'aaaaaaaaaa'><!ENTITY b '&a;&a;&a;&a;'>]><D:lockinfo "
      "xmlns:D='DAV:'><D:lockscope><D:shared/></D:lockscope><D:owner>&b;</D:owner></D:lockinfo>");
  ASSERT_TRUE(asked);
  EXPECT_FALSE(asked->exclusive);
  EXPECT_LT(asked->owner.size(), 10u);
  std::string nested;
  for (int i = 0; i < 5000; ++i) nested += "<a>";
  EXPECT_FALSE(parse_propfind(nested));
}

TEST(DavLocks, AnExclusiveLockKeepsOthersOut) {
  DavLocks locks;
  const std::chrono::seconds minute{60};
  const auto first = locks.lock("/Keeper/", true, {}, minute);
  ASSERT_EQ(first.told, DavLocks::Told::granted);
  EXPECT_EQ(locks.lock("/Keeper/log.txt", false, {}, minute).told, DavLocks::Told::taken);
  EXPECT_EQ(locks.lock("/", true, {}, minute).told, DavLocks::Told::taken);
  EXPECT_EQ(locks.lock("/Keepers/", true, {}, minute).told, DavLocks::Told::granted);
  EXPECT_NE(locks.discovery("/Keeper/log.txt").find(first.token), std::string::npos);
  EXPECT_TRUE(locks.refresh("/Keeper/", first.token, minute));
  EXPECT_FALSE(locks.unlock("/Stores.txt", first.token));
  EXPECT_TRUE(locks.unlock("/Keeper/", first.token));
  EXPECT_EQ(locks.discovery("/Keeper/"), "");
  const LockAsked shared{false, {}};
  EXPECT_EQ(locks.lock("/a", false, shared, minute).told, DavLocks::Told::granted);
  EXPECT_EQ(locks.lock("/a", false, shared, minute).told, DavLocks::Told::granted);
}

TEST(Access, APasswordIsAskedForAndWrongOnesWait) {
  Access access;
  access.add_password("keeper", "gannets of the north ledge");
  const kit::Folder folder;
  const std::string people = folder / "people";
  std::ofstream(people) << "# who\nboatman:" << password_hash("relief boat") << "\n";
  access.add_file(people);
  const auto ask = [&](const std::string& header) {
    asio::io_context io;
    bool right = false;
    std::string user;
    asio::co_spawn(
        io, [&]() -> asio::awaitable<void> { right = co_await access.may(header, user); },
        asio::detached);
    io.run();
    return right ? user : "";
  };
  const auto basic = [](const std::string& text) { return "Basic " + base64(text); };
  EXPECT_EQ(ask(basic("keeper:gannets of the north ledge")), "keeper");
  EXPECT_EQ(ask(basic("keeper:gannets of the north ledge")), "keeper");
  EXPECT_EQ(ask(basic("boatman:relief boat")), "boatman");
  EXPECT_EQ(ask(""), "");
  EXPECT_EQ(ask("Bearer abc"), "");
  EXPECT_EQ(ask(basic("keeper")), "");
  const auto began = std::chrono::steady_clock::now();
  EXPECT_EQ(ask(basic("keeper:gannets")), "");
  EXPECT_EQ(ask(basic("other:gannets of the north ledge")), "");
  EXPECT_GE(std::chrono::steady_clock::now() - began, 2 * Attempts::kAfterWrong);
  EXPECT_EQ(new_password().size(), 19u);
  EXPECT_NE(new_password(), new_password());
}

}  // namespace
}  // namespace lantern::net
