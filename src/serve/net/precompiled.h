// Headers of others that what is served over a network begins with, parsed once (CMakeLists.txt).
// No file relies on it: each includes what it uses.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <boost/asio.hpp>
#include <boost/asio/ssl.hpp>
#include <boost/beast/http.hpp>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>
