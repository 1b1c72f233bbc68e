#include "heron/calibrate/rectify.hpp"

#include <fmt/format.h>

#include <limits>

#include "heron/base/error.hpp"

namespace heron {

Remap undistorted(const Lens& lens, int width, int height, uint8_t outside) {
  return Remap(
      width, height, width, height,
      [&](double x, double y) {
        return project(lens, {(x - lens.cx) / lens.fx, (y - lens.cy) / lens.fy, 1});
      },
      outside);
}

Remap rectified(const Mapping& mapping, const WorldWindow& w, int source_width, int source_height,
                uint8_t outside) {
  if (!(w.width_mm > 0) || !(w.height_mm > 0) || !(w.mm_per_pixel > 0) || !is_finite(w.corner_mm))
    fail_argument("rectify: the window needs a width, a height and millimetres per pixel above 0");
  const double columns = w.width_mm / w.mm_per_pixel, rows = w.height_mm / w.mm_per_pixel;
  if (!(columns >= 2 && rows >= 2 && columns <= 32767 && rows <= 32767))
    fail_argument(
        fmt::format("rectify: {:.0f} x {:.0f} pixels; 2 to 32767 a side are possible", columns, rows));
  const auto height = static_cast<int>(std::lround(rows));
  const double nan = std::numeric_limits<double>::quiet_NaN();
  mapping.world_from_pixel({0.5 * source_width, 0.5 * source_height},
                           w.above_mm);  // an error here is one for every pixel
  return Remap(
      source_width, source_height, static_cast<int>(std::lround(columns)), height,
      [&](double x, double y) {
        try {
          return mapping.pixel_from_world({w.corner_mm.x + (x + 0.5) * w.mm_per_pixel,
                                           w.corner_mm.y + (height - 0.5 - y) * w.mm_per_pixel},
                                          w.above_mm);
        } catch (const Error&) {
          return Point2{nan, nan};
        }
      },
      outside);
}

}  // namespace heron
