#pragma once
/// What tests check with; inputs come from the builders beside.

#include <doctest/doctest.h>

#include "support/bytes.hpp"

namespace wexlo::test {

/// Compares bytes and shows both sides around the first difference.
void check_same(View got, View wanted);

}  // namespace wexlo::test
