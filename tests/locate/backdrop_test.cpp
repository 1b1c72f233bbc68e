// Silhouettes on a backdrop of one color, however bright.
#include <doctest/doctest.h>

#include "heron/locate/target.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

constexpr render::Tint blue{0.25, 0.45, 0.95}, cream{1.0, 0.93, 0.75}, rose{0.95, 0.5, 0.5};

/// Leaf blanks on a blue belt, which is worn bright and soiled in places.
struct Belt {
  bool worn = false, two_colors = false;
  double light = 1;
  Point2 gradient{};
  int parts = 3;

  render::StudioView view(uint64_t seed) const {
    render::Random random(seed);
    render::StudioView v =
        render::blanks_on_belt(random, {.parts = parts, .turned = parts == 1 ? 0.0 : 180.0});
    v.scene.light.level = light, v.scene.light.gradient = gradient;
    if (two_colors) {  // the front half of each leaf in another glaze
      std::vector<render::Piece> halves;
      for (const render::Piece& piece : v.scene.pieces) {
        halves.push_back(piece);
        render::Piece half = piece;
        for (auto& loop : half.outline.loops)
          for (Point2& p : loop) p.x = std::max(p.x, 0.0);
        half.tint = rose;
        halves.push_back(half);
      }
      v.scene.pieces = halves;
    }
    if (worn)
      for (int i = 0; i < 25; ++i)
        v.scene.pieces.insert(v.scene.pieces.begin(),
                              {render::disc(random.uniform(5, 25)),
                               {random.uniform(-150, 150), random.uniform(-120, 120), {}},
                               random.uniform(0.15, 0.6),
                               0,
                               blue});
    return v;
  }
};

Image<Rgb> color_of(const render::StudioView& view, uint64_t seed) {
  render::Random random(seed);
  return std::get<Image<Rgb>>(render::picture_of(view, random).pixels);
}

Target taught_on_belt(const Belt& belt, const std::map<std::string, SettingValue>& more = {}) {
  Belt one = belt;
  one.parts = 1;
  const render::StudioView view = one.view(3);
  const Image<Rgb> color = color_of(view, 4);
  const Image<uint8_t> grey = grey_levels(color);
  std::map<std::string, SettingValue> settings = more;
  settings["backdrop"] = std::string("color");
  return teach_target(
      "outline",
      {.grey = grey, .color = color, .region = Region::rectangle(view.parts[0].pixel, 220, 160, {})},
      {.name = "leaf", .origin = view.parts[0].pixel, .settings = settings});
}

/// Every part of the view is found, and nothing else.
double check_all_found(const Target& target, const render::StudioView& view, uint64_t seed, double within) {
  const FindResult found =
      find(target, PreparedPicture(color_of(view, seed)), target.options(), Explain::never);
  CHECK(found.detections.size() == view.parts.size());
  double squares = 0;
  for (const Detection& s : found.detections) {
    double nearest = 1e9;
    for (const render::StudioPart& part : view.parts)
      nearest = std::min(nearest, distance(part.pixel, {s.x, s.y}));
    CHECK(nearest < within);
    squares += nearest * nearest;
  }
  return squares;
}

}  // namespace

TEST_CASE("silhouettes stand out from a backdrop by its color, whatever its brightness" *
          doctest::test_suite("many pictures")) {
  const Target target = taught_on_belt({});
  const auto& s = target.as<OutlineTarget>()->settings();
  REQUIRE(s.backdrop_color.size() == 3);
  CHECK(s.backdrop_color[2] > 2 * s.backdrop_color[0]);
  CHECK(s.towards.size() == 3);  // all of the part lies one way from it
  double squares = 0;
  constexpr int views = sanitized ? 1 : 8;
  for (int i = 0; i < views; ++i)
    squares += check_all_found(target, Belt{}.view(100 + static_cast<uint64_t>(i)), 7, 0.2);
  MESSAGE("rms distance from the truth " << std::sqrt(squares / (3 * views)) << " px");
  CHECK(std::sqrt(squares / (3 * views)) < 0.04);
  Belt worn{.worn = true};
  for (int i = 0; i < views; ++i) check_all_found(target, worn.view(200 + static_cast<uint64_t>(i)), 8, 0.4);
}

TEST_CASE("dim, bright and uneven light leave a backdrop's color what it is" *
          doctest::test_suite("many pictures")) {
  const Target target = taught_on_belt({});
  for (const double light : {0.4, 0.7, 1.2}) {
    Belt belt{.worn = true, .light = light, .gradient = {0.4, -0.3}};
    check_all_found(target, belt.view(300), 9, 0.5);
  }
}

TEST_CASE("parts of several colors stand out too, by their distance alone" *
          doctest::test_suite("many pictures")) {
  const Target target = taught_on_belt({.two_colors = true});
  CHECK(find(target, PreparedPicture(color_of(Belt{.two_colors = true}.view(400), 3)), target.options())
            .detections.size() == 3);
  // Given by hand as well: blue, as its owner reads it from a color picker.
  const Target given = taught_on_belt({}, {{"backdrop_color", std::vector<double>{20, 36, 76}}});
  check_all_found(given, Belt{}.view(401), 4, 0.3);
}

TEST_CASE("a belt alone has no silhouettes, and other shapes say what they are" *
          doctest::test_suite("many pictures")) {
  const Target target = taught_on_belt({});
  render::StudioView empty = Belt{.worn = true}.view(500);
  std::erase_if(empty.scene.pieces, [](const render::Piece& p) { return p.tint == cream; });
  const FindResult none = find(target, PreparedPicture(color_of(empty, 5)));
  CHECK(none.detections.empty());
  render::StudioView others = Belt{}.view(501);
  std::erase_if(others.scene.pieces, [&](const render::Piece& p) {
    const Point2 at = others.scene.camera.project({p.world_from_piece.x, p.world_from_piece.y, 0});
    for (const render::StudioPart& part : others.parts)
      if (distance(part.pixel, at) < 5) return true;
    return false;
  });
  const FindResult turned_away = find(target, PreparedPicture(color_of(others, 6)));
  CHECK(turned_away.detections.empty());
  CHECK(!turned_away.misses.empty());
}

TEST_CASE("wrong uses of a backdrop's color are told in words") {
  CHECK(contains(error_of([] {
                   taught_on_belt({}, {{"backdrop_color", std::vector<double>{20, 36}}});
                 }),
                 "red, green, blue"));
  CHECK(contains(error_of([] {
                   taught_on_belt({}, {{"backdrop_color", std::vector<double>{2, 3, 6}}});
                 }),
                 "too dark"));
  CHECK(contains(error_of([] { taught_on_belt({}, {{"tone", std::string("dark")}}); }), "--tone"));
  const Image<uint8_t> grey(300, 300);
  CHECK(contains(error_of([&] {
                   teach_target("outline", {.grey = grey, .region = Region::rectangle({50, 50, 150, 150})},
                                {.name = "g", .settings = {{"backdrop", std::string("color")}}});
                 }),
                 "needs a color picture"));
  const Target target = taught_on_belt({});
  CHECK(contains(error_of([&] { find(target, PreparedPicture(Image<uint8_t>(1280, 1024))); }),
                 "needs a color picture"));
}
