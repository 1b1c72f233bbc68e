#include "bench_stack.hpp"

#include <cmath>

#include "heron/files/picture_file.hpp"

namespace heron {
namespace {

constexpr double pitch_mm = 0.5, noise_mm = 0.05, holes = 0.03;

}  // namespace

void save_stack(const std::string& path, const BenchStack& stack, render::Random& random) {
  Image<float> map(400, 300);
  const double slant = std::tan(stack.top_slant.radians());
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x) {
      const double mm_x = pitch_mm * x, mm_y = pitch_mm * y;
      const bool across = mm_y > 35 && mm_y<115, left = mm_x> 25 && mm_x < 100,
                 right = mm_x >= 100 && mm_x < 175;
      double height = 0;
      if (across && left) height = BenchStack::boards * BenchStack::board_mm;
      if (across && right)
        height = (BenchStack::boards + stack.more) * BenchStack::board_mm + slant * (mm_x - 137.5);
      map(x, y) = random.uniform() < holes ? NAN : static_cast<float>(height + noise_mm * random.normal());
    }
  Picture picture;
  picture.pixels = std::move(map), picture.pitch_mm = Point2{pitch_mm, pitch_mm};
  save_picture(path, picture);
}

}  // namespace heron
