#include "heron/base/median.hpp"

#include <doctest/doctest.h>

using namespace heron;

TEST_CASE("a median is the value in the middle, of an even number the upper one, and 0 of none") {
  std::vector<double> odd{5, -1, 3}, even{4, 1, 2, 3}, one{7}, none;
  CHECK(median(odd) == 3);
  CHECK(median(even) == 3);
  CHECK(median(one) == 7);
  CHECK(median(none) == 0);
}

TEST_CASE("a median size leaves signs aside") {
  std::vector<double> values{-9, 1, -2, 3, 0}, none;
  CHECK(median_size(values) == 2);
  CHECK(median_size(none) == 0);
}
