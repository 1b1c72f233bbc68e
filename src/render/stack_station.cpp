#include "heron/render/stack_station.hpp"

#include <cmath>
#include <limits>

#include "fill.hpp"
#include "heron/render/outline.hpp"

namespace heron::render {
namespace {

Outline any_tile(Random& random) {
  switch (random.whole(0, 3)) {
    case 0:
      return rounded_rectangle(random.uniform(18, 30), random.uniform(14, 22), 2);
    case 1:
      return hexagon(random.uniform(8, 14));
    case 2:
      return rosette(random.uniform(9, 14), 8, 1.5);
    default:
      return crescent(random.uniform(10, 14), 6);
  }
}

/// Puts a tile onto whatever lies there: its top lies level with the table, `thickness` above the highest
/// place under it.
void add_tile(Image<float>& above_table, const StackStation& s, Random& random) {
  const double w = above_table.width() * s.pitch_mm.x, h = above_table.height() * s.pitch_mm.y;
  Outline tile = placed(any_tile(random),
                        {random.uniform(0, w), random.uniform(0, h), degrees(random.uniform(-180, 180))});
  for (auto& loop : tile.loops)
    for (Point2& p : loop) p = {p.x / s.pitch_mm.x, p.y / s.pitch_mm.y};
  Image<float> coverage(above_table.width(), above_table.height());
  fill_exactly(coverage.view(), tile.loops, 1);
  float top = 0;
  const auto thickness = static_cast<float>(random.uniform(3, 8));
  for (int pass = 0; pass < 2; ++pass)
    for (int y = 0; y < coverage.height(); ++y)
      for (int x = 0; x < coverage.width(); ++x) {
        if (coverage(x, y) < 0.5f) continue;
        if (pass == 0)
          top = std::max(top, above_table(x, y));
        else
          above_table(x, y) = top + thickness;
      }
}

double covered_share(const Image<float>& above_table) {
  double count = 0;
  for (int y = 0; y < above_table.height(); ++y)
    for (int x = 0; x < above_table.width(); ++x) count += above_table(x, y) > 0;
  return count / (static_cast<double>(above_table.width()) * above_table.height());
}

}  // namespace

StackStation make_stack_station(uint64_t seed, const StackFilling& filling) {
  Random random(seed);
  StackStation s;
  const double tilt = degrees(random.uniform(0, filling.tilt_degrees)).radians();
  const Point2 towards = unit(degrees(random.uniform(-180, 180)));
  s.slope = towards * std::tan(tilt);
  s.offset_mm = random.uniform(-20, 60);
  Image<float> above_table(filling.width, filling.height);
  for (int k = 0; k < 400 && covered_share(above_table) < filling.covered; ++k)
    add_tile(above_table, s, random);
  s.covered = covered_share(above_table);
  s.map = Image<float>(filling.width, filling.height);
  const double mx = 0.5 * (filling.width - 1), my = 0.5 * (filling.height - 1);
  for (int y = 0; y < filling.height; ++y)
    for (int x = 0; x < filling.width; ++x)
      s.map(x, y) = static_cast<float>(s.offset_mm + s.slope.x * (x - mx) * s.pitch_mm.x +
                                       s.slope.y * (y - my) * s.pitch_mm.y + above_table(x, y) +
                                       filling.noise_mm * random.normal());
  s.intensity = Image<uint8_t>(filling.width, filling.height);
  Random grain(seed ^ 0x5eed);
  for (int y = 0; y < filling.height; ++y)
    for (int x = 0; x < filling.width; ++x) {
      const double above = above_table(x, y),
                   glaze = above > 0 ? 110 + 120 * (above * 0.37 - std::floor(above * 0.37)) : 70;
      s.intensity(x, y) = static_cast<uint8_t>(std::clamp(glaze + 3 * grain.normal(), 0.0, 255.0));
    }
  // Holes come in streaks, as a profiler's shadows do.
  const double wanted = filling.holes * filling.width * filling.height;
  for (double made = 0; made < wanted;) {
    const int length = random.whole(2, 40), thick = random.whole(1, 3),
              x0 = random.whole(0, filling.width - 1), y0 = random.whole(0, filling.height - 1);
    for (int y = y0; y < std::min(filling.height, y0 + thick); ++y)
      for (int x = x0; x < std::min(filling.width, x0 + length); ++x)
        s.map(x, y) = std::numeric_limits<float>::quiet_NaN(), ++made;
  }
  return s;
}

}  // namespace heron::render
