#include "case_parts.hpp"

#include <algorithm>
#include <cmath>

#include "heron/render/outline.hpp"
#include "heron/render/random.hpp"

using namespace heron;
using namespace heron::render;

namespace {

constexpr double bright = 0.65, dark = 0.08;

Piece piece(Outline outline, double reflectance = bright) {
  return {.outline = std::move(outline), .reflectance = reflectance};
}

std::vector<Point2> ngon(int corners, double radius, double from_degrees = 90) {
  std::vector<Point2> loop;
  for (int i = 0; i < corners; ++i)
    loop.push_back(unit(degrees(from_degrees + 360.0 * i / corners)) * radius);
  return loop;
}

/// The same loop the other way round: a hole.
std::vector<Point2> hole(std::vector<Point2> loop) {
  std::reverse(loop.begin(), loop.end());
  return loop;
}

Outline gear(int teeth, double outer, double inner, int missing = 0) {
  std::vector<Point2> loop;
  for (int i = 0; i < teeth; ++i)
    for (const auto& [at, far] : {std::pair{0.0, inner}, {0.15, outer}, {0.45, outer}, {0.6, inner}})
      loop.push_back(unit(degrees(360.0 * (i + at) / teeth)) * (i < missing ? inner : far));
  return {{loop}};
}

Outline blob(uint64_t seed, double radius) {
  Random random(seed);
  double a[5], b[5];
  for (int k = 0; k < 5; ++k) a[k] = random.normal() * 0.12, b[k] = random.normal() * 0.12;
  std::vector<Point2> loop;
  for (int i = 0; i < 360; ++i) {
    double r = 1;
    for (int k = 0; k < 5; ++k)
      r += a[k] * std::cos((k + 2) * i * std::numbers::pi / 180) +
           b[k] * std::sin((k + 2) * i * std::numbers::pi / 180);
    loop.push_back(unit(degrees(i)) * (radius * std::max(0.4, r)));
  }
  return {{loop}};
}

Outline polygon(std::vector<Point2> corners) { return {{std::move(corners)}}; }

/// Of boxes x, y (of their middles), width, height.
std::vector<Piece> boxes(std::initializer_list<Box> some) {
  std::vector<Piece> pieces;
  for (const Box& b : some) pieces.push_back(piece(rectangle(b.width, b.height, {b.x, b.y})));
  return pieces;
}

CasePart of_polygon(std::string name, std::vector<Point2> corners, int turns, bool mirror) {
  double w = 0, h = 0;
  for (const Point2& c : corners) w = std::max(w, 2 * std::abs(c.x)), h = std::max(h, 2 * std::abs(c.y));
  return {.name = std::move(name),
          .pieces = {piece(polygon(corners))},
          .turns = turns,
          .mirror = mirror,
          .width = w,
          .height = h,
          .corners = corners};
}

std::vector<Piece> discs(uint64_t seed, int count, double within, double least, double most) {
  Random random(seed);
  std::vector<Piece> pieces;
  for (int i = 0; i < count; ++i) {
    const Point2 at = unit(degrees(random.uniform(0, 360))) * (within * std::sqrt(random.uniform()));
    const double radius = random.uniform(least, most);
    pieces.push_back(piece(disc(radius, at), random.uniform(0.35, 0.9)));
  }
  return pieces;
}

std::vector<Point2> box(double w, double h) {
  return {{-w / 2, -h / 2}, {w / 2, -h / 2}, {w / 2, h / 2}, {-w / 2, h / 2}};
}

void add_polygons(std::vector<CasePart>& all) {
  all.push_back(of_polygon("square", box(110, 110), 4, true));
  all.push_back(of_polygon("rectangle", box(160, 90), 2, true));
  all.push_back(of_polygon("bar", box(200, 24), 2, true));
  all.push_back(of_polygon("long thin bar", box(260, 12), 2, true));
  for (const int n : {3, 5, 6, 7, 8, 10, 12})
    all.push_back(of_polygon(std::to_string(n) + " corners", ngon(n, 62), n, true));
  all.push_back(of_polygon("trapezoid", {{-80, -40}, {80, -40}, {45, 40}, {-45, 40}}, 1, true));
  all.push_back(of_polygon(
      "arrow", {{-90, -14}, {20, -14}, {20, -42}, {88, 0}, {20, 42}, {20, 14}, {-90, 14}}, 1, true));
  all.push_back(of_polygon("cut corner", {{-55, -55}, {55, -55}, {55, 43}, {43, 55}, {-55, 55}}, 1, true));
  all.push_back(of_polygon("cut corner, other sides", {{-80, -45}, {80, -45}, {80, 29}, {64, 45}, {-80, 45}},
                           1, false));
}

void add_round_parts(std::vector<CasePart>& all) {
  all.push_back({.name = "disc",
                 .pieces = {piece(disc(55))},
                 .turns = 0,
                 .mirror = true,
                 .width = 110,
                 .height = 110,
                 .radius = 55});
  all.push_back({.name = "ring",
                 .pieces = {piece({{ngon(720, 60), hole(ngon(720, 34))}})},
                 .turns = 0,
                 .mirror = true,
                 .width = 120,
                 .height = 120});
  all.push_back({.name = "concentric rings",
                 .pieces = {piece(disc(62)), piece(disc(44), dark), piece(disc(24))},
                 .turns = 0,
                 .mirror = true,
                 .width = 124,
                 .height = 124,
                 .silhouette = false});
  all.push_back({.name = "disc with a notch",
                 .pieces = {piece(disc(60)), piece(rectangle(14, 12, {57, 0}), 0.2)},
                 .turns = 1,
                 .mirror = true,
                 .width = 124,
                 .height = 124});
  all.push_back({.name = "hexagon with a notch",
                 .pieces = {piece(hexagon(66)), piece(rectangle(12, 18, {18, 52}), 0.2)},
                 .turns = 1,
                 .width = 136,
                 .height = 124});
  all.push_back({.name = "half disc",
                 .pieces = {piece(polygon([] {
                   auto p = ngon(720, 66, 0);
                   p.resize(361);
                   return p;
                 }()))},
                 .turns = 1,
                 .mirror = true,
                 .width = 136,
                 .height = 136});
  all.push_back({.name = "crescent",
                 .pieces = {piece(crescent(60, 30))},
                 .turns = 1,
                 .mirror = true,
                 .width = 130,
                 .height = 130});
  all.push_back({.name = "kite",
                 .pieces = {piece(kite(150, 90))},
                 .turns = 1,
                 .mirror = true,
                 .width = 190,
                 .height = 100});
  all.push_back({.name = "leaf", .pieces = {piece(leaf(160, 90))}, .turns = 1, .width = 180, .height = 110});
  all.push_back({.name = "rosette",
                 .pieces = {piece(rosette(60, 8, 8))},
                 .turns = 8,
                 .mirror = true,
                 .width = 140,
                 .height = 140});
  all.push_back({.name = "rounded box",
                 .pieces = {piece(rounded_rectangle(150, 90, 20))},
                 .turns = 2,
                 .mirror = true,
                 .width = 150,
                 .height = 90});
  all.push_back(
      {.name = "gear 12", .pieces = {piece(gear(12, 66, 52))}, .turns = 12, .width = 136, .height = 136});
  all.push_back({.name = "gear 16, a tooth gone",
                 .pieces = {piece(gear(16, 66, 54, 1))},
                 .turns = 1,
                 .width = 136,
                 .height = 136});
  all.push_back(
      {.name = "gear with a keyway",
       .pieces = {piece(gear(12, 66, 52)), piece(disc(20), 0.2), piece(rectangle(12, 12, {20, 0}), 0.2)},
       .turns = 1,
       .width = 136,
       .height = 136});
  all.push_back({.name = "plus",
                 .pieces = boxes({{0, 0, 130, 36}, {0, 0, 36, 130}}),
                 .turns = 4,
                 .mirror = true,
                 .width = 130,
                 .height = 130});
}

void add_letters(std::vector<CasePart>& all) {
  all.push_back(
      {.name = "letter L",
       .pieces = {piece(polygon({{-50, 65}, {-20, 65}, {-20, -35}, {50, -35}, {50, -65}, {-50, -65}}))},
       .width = 110,
       .height = 130});
  all.push_back(
      {.name = "letter T",
       .pieces = {piece(
           polygon({{-60, 65}, {60, 65}, {60, 35}, {15, 35}, {15, -65}, {-15, -65}, {-15, 35}, {-60, 35}}))},
       .mirror = true,
       .width = 120,
       .height = 130});
  all.push_back({.name = "letter E",
                 .pieces = {piece(polygon({{-48, 65},
                                           {48, 65},
                                           {48, 39},
                                           {-22, 39},
                                           {-22, 13},
                                           {36, 13},
                                           {36, -13},
                                           {-22, -13},
                                           {-22, -39},
                                           {48, -39},
                                           {48, -65},
                                           {-48, -65}}))},
                 .mirror = true,
                 .width = 100,
                 .height = 132});
  all.push_back({.name = "letter F",
                 .pieces = {piece(polygon({{-48, 65},
                                           {48, 65},
                                           {48, 39},
                                           {-22, 39},
                                           {-22, 17},
                                           {32, 17},
                                           {32, -9},
                                           {-22, -9},
                                           {-22, -65},
                                           {-48, -65}}))},
                 .width = 100,
                 .height = 132});
  all.push_back({.name = "letter H",
                 .pieces = boxes({{-42, 0, 26, 130}, {42, 0, 26, 130}, {0, 0, 90, 26}}),
                 .turns = 2,
                 .mirror = true,
                 .width = 112,
                 .height = 132});
  all.push_back({.name = "letter Z",
                 .pieces = {piece(polygon({{-50, 60},
                                           {50, 60},
                                           {50, 36},
                                           {-12, -36},
                                           {50, -36},
                                           {50, -60},
                                           {-50, -60},
                                           {-50, -36},
                                           {12, 36},
                                           {-50, 36}}))},
                 .turns = 2,
                 .width = 104,
                 .height = 124});
}

void add_erased_and_repeated(std::vector<CasePart>& all) {
  std::vector<Point2> comb{{-80, 40}, {80, 40}, {80, 20}};
  for (double x = 70; x >= -70; x -= 20)
    for (const auto& [beside, y] : {std::pair{5, 20}, {5, -35}, {-5, -35}, {-5, 20}})
      comb.push_back({x + beside, static_cast<double>(y)});
  comb.push_back({-80, 20});
  all.push_back(
      {.name = "comb", .pieces = {piece(polygon(comb))}, .mirror = true, .width = 164, .height = 84});
  const auto grid = [&](bool whole) {
    std::vector<Piece> pieces;
    for (int i = 0; i < 4; ++i)
      for (int j = 0; j < 4; ++j)
        if (whole || i != 1 || j != 3)
          pieces.push_back(piece(rectangle(22, 22, {34.0 * i - 51, 34.0 * j - 51})));
    return pieces;
  };
  all.push_back({.name = "grid",
                 .pieces = grid(true),
                 .turns = 4,
                 .mirror = true,
                 .width = 130,
                 .height = 130,
                 .silhouette = false});
  all.push_back(
      {.name = "grid, one gone", .pieces = grid(false), .width = 130, .height = 130, .silhouette = false});
  all.push_back(
      {.name = "five bars",
       .pieces =
           boxes({{-64, 0, 14, 110}, {-32, 0, 14, 110}, {0, 0, 14, 110}, {32, 0, 14, 110}, {64, 0, 14, 110}}),
       .turns = 2,
       .mirror = true,
       .width = 150,
       .height = 112,
       .silhouette = false});
  all.push_back({.name = "frame, middle erased",
                 .pieces = {piece({{box(220, 150), hole(box(180, 110))}})},
                 .turns = 2,
                 .mirror = true,
                 .width = 224,
                 .height = 154,
                 .erased = {{-70, -60, 140, 120}}});
  all.push_back({.name = "plate, all but its ends erased",
                 .pieces = {piece(polygon(box(220, 130))), piece(disc(30), 0.4)},
                 .turns = 2,
                 .mirror = true,
                 .width = 224,
                 .height = 134,
                 .erased = {{-100, -68, 200, 136}},
                 .silhouette = false});
  all.push_back(
      {.name = "plate with a hole, middle erased",
       .pieces = {piece(polygon(box(220, 150))), piece(disc(8, {92, 55}), 0.2), piece(blob(3, 40), 0.4)},
       .width = 224,
       .height = 154,
       .erased = {{-80, -76, 160, 152}},
       .silhouette = false});
}

void add_blobs_and_sizes(std::vector<CasePart>& all) {
  all.push_back({.name = "blob", .pieces = {piece(blob(11, 60))}, .width = 180, .height = 180});
  all.push_back({.name = "blob with a hole",
                 .pieces = {piece(blob(12, 60)), piece(blob(13, 18), 0.2)},
                 .width = 180,
                 .height = 180});
  all.push_back({.name = "two strokes",
                 .pieces = boxes({{-30, 0, 3, 100}, {10, -49, 80, 3}}),
                 .width = 112,
                 .height = 108,
                 .silhouette = false});
  all.push_back({.name = "two discs",
                 .pieces = {piece(disc(26, {-50, 0})), piece(disc(26, {50, 0}))},
                 .turns = 2,
                 .mirror = true,
                 .width = 160,
                 .height = 60,
                 .silhouette = false});
  all.push_back({.name = "two unequal discs",
                 .pieces = {piece(disc(28, {-50, 0})), piece(disc(24, {50, 0}))},
                 .mirror = true,
                 .width = 160,
                 .height = 60,
                 .silhouette = false});
  all.push_back({.name = "many discs",
                 .pieces = discs(5, 70, 70, 3, 9),
                 .width = 164,
                 .height = 164,
                 .silhouette = false});
  all.push_back(
      {.name = "tiny L", .pieces = boxes({{-6, 0, 8, 20}, {2, -7, 18, 6}}), .width = 24, .height = 24});
  all.push_back({.name = "tiny leaf", .pieces = {piece(leaf(26, 14))}, .width = 32, .height = 20});
  std::vector<Piece> plate{piece(polygon(box(760, 420)))};
  for (int i = 0; i < 9; ++i)
    plate.push_back(piece(disc(14 + 3 * (i % 4), {80.0 * i - 320, (i * 97) % 260 - 130.0}), 0.15));
  all.push_back({.name = "large plate", .pieces = plate, .width = 764, .height = 424, .silhouette = false});
}

}  // namespace

std::vector<CasePart> case_parts() {
  std::vector<CasePart> all;
  add_polygons(all);
  add_round_parts(all);
  add_letters(all);
  add_erased_and_repeated(all);
  add_blobs_and_sizes(all);
  return all;
}
