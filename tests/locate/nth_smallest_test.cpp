#include "locate/common/nth_smallest.hpp"

#include <doctest/doctest.h>

#include "heron/render/random.hpp"

using namespace heron;

TEST_CASE("the n-th smallest is that of the sorted values, of either sign and of many alike") {
  render::Random random(5);
  for (const size_t count : {1U, 2U, 15U, 16U, 17U, 400U, 1003U}) {
    std::vector<float> values, coarse, alike(count, -2.5f);
    for (size_t i = 0; i < count; ++i) {
      values.push_back(static_cast<float>(random.uniform(-3, 1e3)));
      coarse.push_back(static_cast<float>(std::floor(random.uniform(-3, 3))));
    }
    for (const std::vector<float>& v : {values, coarse, alike})
      for (const size_t n : {size_t{0}, count / 3, count / 2, count - 1}) {
        CAPTURE(count);
        CAPTURE(n);
        CHECK(nth_smallest(v, n) == nth_smallest_plain(v, n));
      }
  }
  CHECK(nth_smallest({0.0f, -0.0f, 1e-30f, -1e-30f}, 3) == 1e-30f);
  CHECK(nth_smallest({3.4e38f, -3.4e38f}, 1) == 3.4e38f);
  CHECK(median_of_some({}) == 0);
  CHECK(median_of_some({1, 4, 2, 3}) == 3);
}
