// Types of GPT entries that more than one place speaks of (UEFI Specification 2.10, 5.3.3, and the
// systems that made them), lower case with dashes.
#pragma once

#include <string_view>

namespace lantern::partition_guid {

constexpr std::string_view kBasicData = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7";
constexpr std::string_view kEfiSystem = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b";
constexpr std::string_view kLinuxData = "0fc63daf-8483-4772-8e79-3d69d8477de4";
constexpr std::string_view kLinuxSwap = "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f";
constexpr std::string_view kLinuxGroup = "e6d6d379-f507-44c2-a23c-238f2a3df928";
constexpr std::string_view kLinuxArray = "a19d880f-05fc-4d3b-a006-743f0f84911e";

}  // namespace lantern::partition_guid
