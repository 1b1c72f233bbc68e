#include <doctest/doctest.h>

#include "heron/locate/target.hpp"
#include "heron/render/studio_views.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using support::contains;
using support::error_of;

namespace {

struct PanelShot {
  render::StudioView view;
  Image<uint8_t> grey;

  PanelShot(uint64_t seed, const render::StudioFilling& filling, uint64_t noise_seed = 1) {
    render::Random random(seed);
    view = render::floor_panel(random, filling);
    take(noise_seed);
  }
  void take(uint64_t noise_seed) {
    render::Random random(noise_seed);
    grey = grey_levels(render::picture_of(view, random));
  }
  const render::StudioPart& panel() const { return view.parts[0]; }
  PreparedPicture prepared() const { return PreparedPicture{Image<uint8_t>(grey)}; }
};

/// Drawn by hand: some pixels off.
std::vector<double> roughly(const std::vector<Point2>& corners, double off, uint64_t seed) {
  render::Random random(seed);
  std::vector<double> drawn;
  for (const Point2& p : corners)
    drawn.push_back(p.x + random.uniform(-off, off)), drawn.push_back(p.y + random.uniform(-off, off));
  return drawn;
}

const PanelShot& easy() {
  static const PanelShot shot(3, {});
  return shot;
}

Target panel_with(std::map<std::string, SettingValue> settings) {
  if (!settings.count("polyline")) settings["polyline"] = roughly(easy().panel().corners, 6, 5);
  return teach_target("border",
                      {.grey = easy().grey, .region = Region::rectangle(easy().panel().pixel, 540, 420, {})},
                      {.name = "panel", .origin = easy().panel().pixel, .settings = settings});
}

const Target& panel() {
  static const Target target = panel_with({{"chip_width", 14.0}, {"min_chip", 12.0}});
  return target;
}

Point2 corner_of(const Detection& s, size_t number) {
  for (const NamedPoint& p : s.points)
    if (p.name == "corner" + std::to_string(number)) return p.at;
  FAIL("no such corner");
  return {};
}

double limit_value(const FindResult& result, const std::string& name) {
  for (const Miss& m : result.misses)
    for (const MissReason& l : m.reasons)
      if (l.name == name) return l.value;
  return std::numeric_limits<double>::quiet_NaN();
}

/// The panel with its third side moved outwards.
PanelShot with_side_moved(double mm) {
  PanelShot shot(3, {});
  auto& corners = shot.view.scene.pieces[0].outline.loops[0];
  const Point2 a = corners[2], b = corners[3], u = (b - a) / distance(a, b), out{u.y, -u.x};
  // Along the neighbouring sides, so that those stay where they are.
  for (const auto& [k, along] : {std::pair{2, Point2{0, 1}}, {3, Point2{1, 0}}})
    corners[static_cast<size_t>(k)] += along * (mm / dot(along, out));
  shot.take(4);
  return shot;
}

}  // namespace

TEST_CASE("a border that is drawn roughly snaps to the part") {
  const auto* border = panel().as<BorderTarget>();
  REQUIRE(border);
  const auto& snapped = border->settings().polyline;
  for (size_t i = 0; i < 5; ++i)
    CHECK(distance({snapped[2 * i], snapped[2 * i + 1]}, easy().panel().corners[i]) < 0.1);
  // A polygon as region is a border drawn.
  std::vector<Point2> drawn;
  const auto rough = roughly(easy().panel().corners, 5, 9);
  for (size_t i = 0; i < rough.size(); i += 2) drawn.push_back({rough[i], rough[i + 1]});
  const Target other =
      teach_target("border", {.grey = easy().grey, .region = Region::polygon(drawn)}, {.name = "panel"});
  const auto& again = other.as<BorderTarget>()->settings().polyline;
  for (size_t i = 0; i < again.size(); ++i) CHECK(again[i] == doctest::Approx(snapped[i]).epsilon(1e-4));
}

TEST_CASE("a border is found again with its corners, sides and chips, moved, turned, dim and covered" *
          doctest::test_suite("many pictures")) {
  int chips = 0, told = 0;
  for (uint64_t seed = 50; seed < (sanitized ? 52 : 62); ++seed) {
    CAPTURE(seed);
    const PanelShot shot(seed, {.hard = true}, seed);
    const FindResult result = find(panel(), shot.prepared());
    REQUIRE(result.detections.size() == 1);
    const Detection& s = result.detections[0];
    REQUIRE(s.points.size() == 5);
    CHECK(s.lengths.size() == 5);
    for (size_t i = 0; i < 5; ++i)
      CHECK(distance(corner_of(s, i + 1), shot.panel().corners[i]) <
            std::max(0.15, 5 * norm(s.points[i].sigma)));
    for (const render::StudioPart& chip : shot.panel().chips) {
      ++chips;
      for (const Defect& f : s.defects)
        if (distance({f.x, f.y}, chip.pixel) < 5) {
          ++told;
          CHECK(f.what == "chip");
          CHECK(f.area > 0.3 * chip.area_px);
          CHECK(f.area < 1.7 * chip.area_px);
        }
    }
  }
  CHECK(told >= chips - 1);
}

TEST_CASE("a corner's x and y scatter by their sigmas" * doctest::test_suite("many pictures")) {
  PanelShot shot(3, {});
  shot.view.scene.texture = 0, shot.view.noise.sigma = 5;
  std::vector<Point2> squares(shot.panel().corners.size()), told(squares);
  constexpr int runs = sanitized ? 3 : 80;
  for (int i = 0; i < runs; ++i) {
    shot.take(10 + static_cast<uint64_t>(i));
    const FindResult found = find(panel(), shot.prepared());
    REQUIRE(found.detections.size() == 1);
    for (size_t k = 0; k < squares.size(); ++k) {
      const Point2 off = corner_of(found.detections[0], k + 1) - shot.panel().corners[k],
                   sigma = found.detections[0].points[k].sigma;
      squares[k] += Point2{off.x * off.x, off.y * off.y};
      told[k] += Point2{sigma.x * sigma.x, sigma.y * sigma.y};
    }
  }
  if (sanitized) return;  // too few to judge; the plain build does
  double all = 0;
  for (size_t k = 0; k < squares.size(); ++k)
    for (const double ratio : {squares[k].x / told[k].x, squares[k].y / told[k].y}) {
      CAPTURE(k);
      CHECK(ratio > 0.55);
      CHECK(ratio < 1.7);
      all += ratio / static_cast<double>(2 * squares.size());
    }
  MESSAGE("squares of errors over squares of sigmas " << all);
  CHECK(all > 0.8);
  CHECK(all < 1.3);
}

TEST_CASE("nothing is found where there is no panel" * doctest::test_suite("many pictures")) {
  for (uint64_t seed = 70; seed < (sanitized ? 71 : 75); ++seed)
    CHECK(find(panel(), PanelShot(seed, {.hard = true, .empty = true}, seed).prepared()).detections.empty());
}

TEST_CASE("a side that gives is told, and one that gives too much is not seen") {
  const FindResult little = find(panel(), with_side_moved(0.5).prepared());  // two pixels
  REQUIRE(little.detections.size() == 1);
  const Detection& s = little.detections[0];
  // Against its neighbours, which the whole follows a little.
  const double others = 0.5 * (*s.measurement("side2.off") + *s.measurement("side4.off"));
  CHECK(*s.measurement("side3.off") - others < -1.2);
  CHECK(std::abs(*s.measurement("side3.turned")) < 0.1);
  const FindResult much = find(panel(), with_side_moved(3).prepared());
  REQUIRE(much.detections.size() == 1);
  CHECK(*much.detections[0].measurement("side3.seen") == 0);
  CHECK(*much.detections[0].measurement("side1.seen") > 90);
  CHECK(much.detections[0].score < 95);
  CHECK(much.detections[0].points.size() == 3);  // those of the other sides
  CHECK(std::any_of(much.detections[0].contours.begin(), much.detections[0].contours.end(),
                    [](const Contour& t) { return !t.seen; }));
}

TEST_CASE("an open border of two sides has one corner") {
  const auto& c = easy().panel().corners;
  const Target target =
      panel_with({{"polyline", roughly({c[4], c[0], c[1]}, 5, 11)}, {"open", true}, {"side_tolerance", 2.0}});
  const FindResult result = find(target, easy().prepared());
  REQUIRE(result.detections.size() == 1);
  REQUIRE(result.detections[0].points.size() == 1);
  CHECK(distance(result.detections[0].points[0].at, c[0]) < 0.1);
}

TEST_CASE("each limit of a border is strict and named") {
  PanelShot moved(3, {});
  for (render::Piece& piece : moved.view.scene.pieces) piece.world_from_piece = {4, 0, 5_deg};
  moved.take(2);
  const PreparedPicture prepared = moved.prepared();
  const auto with = [&](auto change) {
    FindOptions options = panel().options();
    change(options);
    return find(panel(), prepared, options);
  };
  CHECK(with([](FindOptions&) {}).detections.size() == 1);
  const FindResult turned = with([](FindOptions& l) { l.angle = {degrees(-4.5), degrees(4.5)}; });
  CHECK(turned.detections.empty());
  CHECK(limit_value(turned, "angle") == doctest::Approx(-5).epsilon(0.01));
  const FindResult away = with([](FindOptions& l) { l.region = Region::rectangle({600, 480, 50, 60}); });
  CHECK(away.detections.empty());
  const FindResult short_of = find(panel().with({{"position_tolerance", 14.0}}), prepared);
  CHECK(short_of.detections.empty());
  CHECK(limit_value(short_of, "position") == doctest::Approx(16).epsilon(0.02));
  CHECK_THROWS_AS(with([](FindOptions& l) { l.inversion = Inversion::whole; }), Error);
  // A chip that is too large fails the border.
  PanelShot chipped(3, {});
  chipped.view.scene.pieces.push_back({render::disc(1.5), {0, -42.2, {}}, 0.1});
  chipped.take(3);
  CHECK(find(panel(), chipped.prepared()).detections.size() == 1);
  const FindResult failed = find(panel().with({{"max_chip", 60.0}}), chipped.prepared());
  CHECK(failed.detections.empty());
  CHECK(limit_value(failed, "chip") == doctest::Approx(std::numbers::pi * 36).epsilon(0.25));
  CHECK(find(panel().with({{"max_chip", 60.0}, {"chip_tone", std::string("brighter")}}), chipped.prepared())
            .detections.size() == 1);
}

TEST_CASE("lines printed on the part are not chips, a chip beside or on one of them is" *
          doctest::test_suite("many pictures")) {
  const auto with_lines = [](double chip_at) {
    PanelShot shot(3, {});
    for (const double x : {-30.0, 0.0, 30.0})
      shot.view.scene.pieces.push_back({render::rectangle(1, 90, {x, 0}), {}, 0.1});
    if (chip_at < 100) shot.view.scene.pieces.push_back({render::disc(1.5), {chip_at, -42.2, {}}, 0.1});
    shot.take(4);
    return shot;
  };
  const PanelShot taught = with_lines(100);
  const Target target = teach_target(
      "border", {.grey = taught.grey, .region = Region::rectangle(taught.panel().pixel, 540, 420, {})},
      {.name = "panel",
       .origin = taught.panel().pixel,
       .settings = {{"polyline", roughly(taught.panel().corners, 6, 5)}, {"chip_width", 14.0}}});
  CHECK(target.facts().back().name == "marks");
  CHECK(target.facts().back().value >= 6);  // both ends of each line
  const auto chips_of = [&](double chip_at) {
    const FindResult found = find(target, with_lines(chip_at).prepared());
    REQUIRE(found.detections.size() == 1);
    return *found.detections[0].measurement("chips");
  };
  CHECK(chips_of(100) == 0);
  CHECK(chips_of(15) == 1);
  CHECK(chips_of(30.8) == 1);
}

TEST_CASE("a miss gives the real pose of a border far outside its ranges") {
  // Before, a turn of 15 degrees said nothing, and a shift of 80 pixels told a wrong pose.
  constexpr int side = 500;
  constexpr double middle = (side - 1) / 2.0;
  render::Random random(5);
  const auto shot = [&](Point2 shift, Angle angle) {
    render::Scene scene;
    scene.camera = render::straight_camera(side, side, 1);
    scene.width = scene.height = side;
    scene.pieces = {{render::rectangle(260, 180), {shift.x, -shift.y, -angle}, 0.75}};
    return render::expose(render::exact_picture(scene), {.sigma = 2}, random);
  };
  const Target target = teach_target(
      "border", {.grey = shot({}, {}), .region = Region::rectangle(Point2{middle, middle}, 260, 180, {})},
      {.name = "plate"});
  for (const double turn : {0.0, 15.0, 40.0})
    for (const double shift : {0.0, 80.0}) {
      if (turn == 0 && shift == 0) continue;
      CAPTURE(turn);
      CAPTURE(shift);
      const FindResult f = find(target, PreparedPicture(shot({shift, shift / 2}, degrees(turn))));
      CHECK(f.detections.empty());
      REQUIRE(f.misses.size() == 1);
      CHECK(f.misses[0].x - middle == doctest::Approx(shift).epsilon(0.02));
      CHECK(f.misses[0].angle.degrees() == doctest::Approx(turn).epsilon(0.02));
      if (turn > 0) CHECK(limit_value(f, "angle") == doctest::Approx(turn).epsilon(0.02));
      if (shift > 0) CHECK(limit_value(f, "position") == doctest::Approx(shift).epsilon(0.02));
    }
}

TEST_CASE("a wrong border is told in one message each") {
  const auto& c = easy().panel().corners;
  const auto error = [](std::vector<double> polyline, std::map<std::string, SettingValue> more = {}) {
    more["polyline"] = std::move(polyline);
    return error_of([&] { panel_with(more); });
  };
  CHECK(contains(error({100, 100, 300, 300, 300, 100, 100, 300}), "cross"));
  CHECK(contains(error({100, 100, 300, 100, 300, 105}), "at least 12"));
  CHECK(contains(error({100, 100, 300, 100}), "three corners"));
  CHECK(contains(error({100, 100, 300, 100, 150, 100}), "lie on each other"));
  CHECK(contains(error({100, 100, 1300, 100, 300, 700}), "must lie inside the picture"));
  CHECK(contains(error({c[0].x, c[0].y, 640, c[0].y, c[1].x, c[1].y}, {{"open", true}}), "slide along"));
  CHECK(contains(error({100, 100, 200, 100, 200, 200, 100, 200}), "side 1 of the polyline"));
  CHECK(contains(error(roughly(c, 1, 2), {{"side_tolerance", 0.0}}), "side_tolerance 0 must be from 0.5"));
  CHECK(contains(error_of([&] {
                   teach_target("border",
                                {.grey = easy().grey, .region = Region::ellipse({640, 512}, 90, 90)},
                                {.name = "round"});
                 }),
                 "polygon"));
}
