#include "heron/base/nearest_name.hpp"

#include <doctest/doctest.h>

using namespace heron;

TEST_CASE("the name that was meant is the one that fewest letters make of what was given") {
  const std::vector<std::string> known{"find", "teach", "study"};
  CHECK(nearest_name("fnd", known) == "find");
  CHECK(nearest_name("taech", known) == "teach");
  CHECK(nearest_name("studyy", known) == "study");
  CHECK(nearest_name("find", known) == "find");
  CHECK_FALSE(nearest_name("xyzzy", known));
  CHECK_FALSE(nearest_name("find", {}));
  CHECK(nearest_name("abcdef", {"abcxyz"}) == "abcxyz");
  CHECK_FALSE(nearest_name("abcdef", {"abwxyz"}));
  CHECK(nearest_name("ab", {"xb", "ax"}) == "xb");
}
