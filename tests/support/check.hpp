#pragma once
/// What tests check with; inputs come from the builders beside.

#include <doctest/doctest.h>

#include "support/bytes.hpp"

namespace wexlo::test {

/// A result's value; without one the test stops, with the error.
template <class T>
T value_of(Result<T> result) {
  INFO((result ? std::string() : describe(result.error())));
  REQUIRE(result);
  return std::move(*result);
}

/// Compares bytes and shows both sides around the first difference.
void check_same(View got, View wanted);

}  // namespace wexlo::test
