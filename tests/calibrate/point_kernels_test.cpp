#include <doctest/doctest.h>

#include <cmath>

#include "feature/point_step.hpp"
#include "feature/saddle_sums.hpp"
#include "heron/feature/board_points.hpp"
#include "heron/geometry/homography.hpp"
#include "heron/render/tray_station.hpp"

using namespace heron;
using namespace heron::render;

namespace {

Image<uint8_t> noise_picture(int width, int height) {
  Image<uint8_t> picture(width, height);
  Random random(4);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) picture(x, y) = static_cast<uint8_t>(random.whole(0, 255));
  return picture;
}

/// Alike but for the rounding of sums as large as `size`.
bool near(float a, float b, float size) { return std::abs(a - b) <= 1e-5f * size; }

}  // namespace

TEST_CASE("the kernels of saddles and point steps sum what their plain twins do, at every place of a row") {
  const Image<uint8_t> picture = noise_picture(70, 40);
  for (const float x : {9.3f, 20.0f, 33.7f, 60.2f})
    for (const float radius : {3.2f, 7.9f}) {
      const SaddleSums a = saddle_sums(picture, x, 17.4f, radius),
                       b = saddle_sums_plain(picture, x, 17.4f, radius);
      const float size = b.xx + b.yy;
      CHECK((near(a.xx, b.xx, size) && near(a.xy, b.xy, size) && near(a.yy, b.yy, size)));
      CHECK((near(a.bx, b.bx, size * radius) && near(a.by, b.by, size * radius)));
      for (const auto kind : {PointModel::dot, PointModel::corner}) {
        PointModel m;
        m.kind = kind, m.at = {x, 17.4}, m.radius = radius, m.slope_x = 0.3f, m.slope_y = -0.2f;
        m.a = kind == PointModel::dot ? 0.04f : 0.6f, m.b = kind == PointModel::dot ? 0.005f : 0.8f;
        m.c = kind == PointModel::dot ? 0.05f : -0.8f, m.d = 0.6f;
        const PointSums s = point_sums(picture, m), t = point_sums_plain(picture, m);
        const float shifts = t.xx + t.yy, slopes = t.uu + t.vv, mixed = std::sqrt(shifts * slopes);
        // Residuals of a picture that is noise alone are as large as grey levels are.
        const float grey = 255 * std::sqrt(3.2f * radius * radius);
        CHECK((near(s.xx, t.xx, shifts) && near(s.xy, t.xy, shifts) && near(s.yy, t.yy, shifts)));
        CHECK((near(s.xu, t.xu, mixed) && near(s.xv, t.xv, mixed) && near(s.yu, t.yu, mixed) &&
               near(s.yv, t.yv, mixed)));
        CHECK((near(s.uu, t.uu, slopes) && near(s.uv, t.uv, slopes) && near(s.vv, t.vv, slopes)));
        CHECK((near(s.rx, t.rx, grey * std::sqrt(shifts)) && near(s.ry, t.ry, grey * std::sqrt(shifts))));
        CHECK((near(s.ru, t.ru, grey * std::sqrt(slopes)) && near(s.rv, t.rv, grey * std::sqrt(slopes))));
        CHECK(near(s.blur_square, t.blur_square, t.blur_square));
        CHECK(near(s.blur_residual, t.blur_residual, grey * std::sqrt(t.blur_square)));
      }
    }
}

TEST_CASE("a dot's centre is within one and a half times what noise allows, slanted and in uneven light") {
  Random random(12);
  double squares = 0;
  int n = 0;
  for (int run = 0; run < 60; ++run) {
    Scene scene;
    scene.camera = camera_above(400, {.fx = 1600, .fy = 1600, .cx = 79.5, .cy = 59.5},
                                degrees(run % 2 ? 40 : 0), 25_deg);
    scene.width = 160, scene.height = 120;
    scene.background = 0.85;
    scene.light = {1, {0.4, -0.2}, 0};
    const Point2 at{random.uniform(-0.2, 0.2), random.uniform(-0.2, 0.2)};
    scene.pieces.push_back({disc(3), {at.x, at.y, {}}, 0.07});
    const auto dots = find_dots(expose(exact_picture(scene), {.sigma = 2}, random), 61);
    REQUIRE(dots.size() == 1);
    const Point2 middle = projected_circle_centre(pixel_from_table(scene.camera), at, 3);
    const Point2 off = dots[0].centre - middle;
    squares += dot(off, off) / 2, ++n;
  }
  // The bound of such a dot (radius 12 px, contrast 180, sigma 2) is about 0.003 px.
  CHECK(std::sqrt(squares / n) < 0.0055);
}
