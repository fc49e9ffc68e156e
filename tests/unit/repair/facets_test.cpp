#include "repair/facets.h"

#include <gtest/gtest.h>

#include "lantern/format/registry.h"

namespace lantern::repair {
namespace {

TEST(RepairFacets, EachIsOfAFileSystemThatIsReadHere) {
  ASSERT_FALSE(repair_facets().empty());
  for (const RepairFacet& facet : repair_facets()) {
    const Format* const format = known_formats().find(facet.format);
    ASSERT_NE(format, nullptr) << facet.format;
    EXPECT_NE(format->open, nullptr) << facet.format;
    EXPECT_NE(facet.diagnose, nullptr) << facet.format;
    EXPECT_EQ(repair_facet(facet.format), &facet);
  }
}

TEST(RepairFacets, WhatHasNoneIsLeftAlone) {
  Recognition disc;
  disc.format = "iso9660";
  disc.is_read = true;
  EXPECT_FALSE(is_repaired(disc));
  EXPECT_EQ(repair_facet("xfs"), nullptr);
}

}  // namespace
}  // namespace lantern::repair
