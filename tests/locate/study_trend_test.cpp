// What declines over a recording, before it fails.
#include <doctest/doctest.h>

#include "heron/locate/study.hpp"
#include "heron/render/random.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"

using namespace heron;

namespace {

const FigureTrend* named(const std::vector<FigureTrend>& trends, const std::string& name) {
  for (const FigureTrend& t : trends)
    if (t.name == name) return &t;
  return nullptr;
}

/// Pictures with one find each whose score is what `score` says.
template <class Score>
std::vector<StudiedPicture> pictures_of(int count, Score score) {
  std::vector<StudiedPicture> all(static_cast<size_t>(count));
  for (int i = 0; i < count; ++i) {
    StudiedFind find{.x = 100, .y = 100, .angle = {}, .score = score(i), .contrast = 50, .right = true};
    all[static_cast<size_t>(i)].finds.push_back(find);
  }
  return all;
}

}  // namespace

TEST_CASE("a decline is told with its sigma, a scatter is not") {
  render::Random random(2);
  const auto falls = trends_of(pictures_of(40, [&](int i) { return 95 - 0.5 * i + random.normal(); }));
  const FigureTrend* score = named(falls, "score");
  REQUIRE(score);
  CHECK(score->first == doctest::Approx(95).epsilon(0.02));
  CHECK(score->last == doctest::Approx(75.5).epsilon(0.02));
  CHECK(score->change_sigma < 1.5);
  CHECK(score->changes());
  CHECK(score->values.size() == 40);
  int false_ones = 0;
  for (int run = 0; run < 100; ++run)
    false_ones +=
        named(trends_of(pictures_of(40, [&](int) { return 90 + 3 * random.normal(); })), "score")->changes();
  CHECK(false_ones <= 3);
  // A single bad picture is no trend.
  CHECK_FALSE(
      named(trends_of(pictures_of(20, [](int i) { return i == 19 ? 30.0 : 90.0; })), "score")->changes());
}

TEST_CASE("what is not a part, and too few pictures, make no trend") {
  CHECK(trends_of({}).empty());
  CHECK(trends_of(pictures_of(2, [](int) { return 90.0; })).empty());
  auto wrong = pictures_of(10, [](int i) { return 90.0 - i; });
  for (StudiedPicture& p : wrong) p.finds[0].right = false;
  CHECK(trends_of(wrong).empty());
  const auto steady = trends_of(pictures_of(10, [](int) { return 90.0; }));
  REQUIRE(named(steady, "contrast"));
  CHECK(named(steady, "contrast")->first == doctest::Approx(50));
  CHECK_FALSE(named(steady, "contrast")->changes());
}

TEST_CASE("a lens that fogs takes a marker's contrast, not its diameter" *
          doctest::test_suite("many pictures")) {
  render::Random random(30);
  const render::StudioView taught_view = render::door_frame(random, {.parts = 1, .turned = 0});
  const Image<uint8_t> taught = grey_levels(render::picture_of(taught_view, random));
  const Target target = teach_target(
      "marker", {.grey = taught, .region = Region::rectangle(taught_view.parts[0].pixel, 96, 96, {})},
      {.name = "bore"});
  std::vector<StudiedPicture> pictures;
  constexpr int count = sanitized ? 5 : 16;
  for (int i = 0; i < count; ++i) {
    render::StudioView view = render::door_frame(random, {.parts = 1});
    const double fog = static_cast<double>(i) / (count - 1);
    view.scene.light.level = 1 - 0.55 * fog;
    view.scene.glares.push_back({{640, 512}, 2000, 0.25 * fog});
    const PreparedPicture prepared(grey_levels(render::picture_of(view, random)));
    const std::vector<KnownPart> known{{view.parts[0].pixel.x, view.parts[0].pixel.y}};
    pictures.push_back(
        study_picture(target, prepared, target.options(), find(target, prepared, target.options()), &known));
  }
  const auto trends = trends_of(pictures);
  for (const char* name :
       {"quality.rim", "quality.scatter", "quality.contrast", "quality.diameter", "quality.sigma"})
    CHECK(named(trends, name));
  CHECK_FALSE(named(trends, "quality.total"));  // that is the score
  REQUIRE(named(trends, "quality.contrast"));
  CHECK(named(trends, "quality.contrast")->changes());
  CHECK(named(trends, "quality.contrast")->last < 0.7 * named(trends, "quality.contrast")->first);
  CHECK_FALSE(named(trends, "quality.diameter")->changes());
}
