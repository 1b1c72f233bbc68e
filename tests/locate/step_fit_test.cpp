#include <doctest/doctest.h>

#include <cmath>

#include "heron/render/random.hpp"
#include "locate/scan/step_fit.hpp"

using namespace heron;

namespace {

/// A profile with one step at `at`.
std::vector<double> profile_with(double at, double low, double high, double blur, double noise,
                                 render::Random& random, size_t count = 40) {
  std::vector<double> profile(count);
  for (size_t k = 0; k < count; ++k) {
    const double z = (static_cast<double>(k) - at) / blur;
    profile[k] = low + (high - low) * 0.5 * std::erfc(-z / std::numbers::sqrt2) + noise * random.normal();
  }
  return profile;
}

}  // namespace

TEST_CASE(
    "the kernel of step fits meets what its plain twin does: soft, sharp, weak, at the ends, round, beside "
    "others") {
  render::Random random(11);
  std::vector<std::vector<double>> profiles;
  std::vector<std::vector<float>> skews;
  std::vector<StepSearch> searches;
  for (int i = 0; i < 600; ++i) {
    const double at = random.uniform(0, 40), noise = random.uniform(0, 3);
    profiles.push_back(profile_with(at, random.uniform(0, 255), random.uniform(0, 255),
                                    random.uniform(0.4, 3.2), noise, random));
    StepSearch s{.round = i % 3 == 0,
                 .start = at + random.uniform(-2, 2),
                 .reach = random.uniform(2.5, 6),
                 .noise = noise + 0.05,
                 .least = i % 5 ? 0.0 : 20.0};
    skews.emplace_back();
    for (int k = 0; k < 40; ++k) skews.back().push_back(static_cast<float>(random.uniform(-0.02, 0.02)));
    searches.push_back(s);
  }
  for (size_t i = 0; i < searches.size(); ++i) {
    searches[i].profile = &profiles[i];
    if (i % 2) searches[i].skew = &skews[i];
  }
  const auto fast = fit_steps(searches);
  REQUIRE(fast.size() == searches.size());
  int met = 0, apart = 0;
  for (size_t i = 0; i < searches.size(); ++i) {
    const auto plain = fit_step_plain(searches[i]);
    // A step at the end of its way, or one that never comes to rest, may fall to either side; so may a value
    // at the end of the reach.
    if (fast[i].has_value() != plain.has_value()) {
      ++apart;
      continue;
    }
    if (!plain || plain->sigma > 0.3) continue;
    ++met;
    const auto near = [](double one, double other, double within) { return std::abs(one - other) < within; };
    CAPTURE(i);
    CHECK(near(fast[i]->at, plain->at, 2e-4 + 0.1 * plain->sigma));
    apart += !near(fast[i]->at, plain->at, 2e-4 + 0.03 * plain->sigma) ||
             !near(fast[i]->contrast, plain->contrast, 0.02 + 0.01 * std::abs(plain->contrast)) ||
             !near(fast[i]->sigma, plain->sigma, 1e-4 + 0.05 * plain->sigma) ||
             !near(fast[i]->blur, plain->blur, 0.01 + 0.02 * plain->blur);
  }
  CHECK(met > 350);
  CHECK(apart < 10);
}

TEST_CASE("a fitted step lies where it was drawn, and nothing is met where there is none") {
  render::Random random(5);
  for (const double at : {8.0, 12.25, 19.5, 23.73}) {
    const std::vector<double> profile = profile_with(at, 40, 140, 1.1, 0, random);
    const StepSearch s{.profile = &profile, .start = at + 0.8, .reach = 5, .noise = 0.5};
    const auto met = fit_steps({&s, 1});
    REQUIRE(met[0]);
    CHECK(std::abs(met[0]->at - at) < 1e-3);
    CHECK(met[0]->contrast == doctest::Approx(100).epsilon(1e-3));
  }
  const std::vector<double> flat(40, 120.0);
  const StepSearch on_flat{.profile = &flat, .start = 20, .reach = 5, .noise = 1};
  CHECK(!fit_steps({&on_flat, 1})[0]);
  const std::vector<double> brief{10, 10, 200, 200};
  const StepSearch on_brief{.profile = &brief, .start = 1.5, .reach = 5, .noise = 1};
  CHECK(!fit_steps({&on_brief, 1})[0]);
  CHECK(fit_steps({}).empty());
}

TEST_CASE("a scan far outside the picture reads the pixels at its border") {
  Image<uint8_t> picture(60, 40);
  for (int y = 0; y < 40; ++y)
    for (int x = 0; x < 60; ++x) picture(x, y) = static_cast<uint8_t>(x < 30 ? 50 : 200);
  for (const double far : {100.0, 1e5, 1e8, 1e15, 1e200}) {
    CAPTURE(far);
    const Scan right = Scan::band({far, 20, 30, 6, 0}, "band"), left = Scan::arc({-far, 20, 5, 9, 0, 360}),
               fan = Scan::fan({far, -far, 5, 15, 0, 360});
    for (const double v : LaneReader(picture, right).mean_of(0, right.lanes()))
      CHECK(v == doctest::Approx(200));
    for (const double v : LaneReader(picture, left).mean_of(0, left.lanes())) CHECK(v == doctest::Approx(50));
    for (const double v : LaneReader(picture, fan).mean_of(0, fan.lanes())) CHECK(v == doctest::Approx(200));
  }
}
