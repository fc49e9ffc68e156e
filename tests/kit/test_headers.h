// What nearly every test includes, parsed once for all of them.
#pragma once

#include <gtest/gtest.h>

#include "precompiled.h"
