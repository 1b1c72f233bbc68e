#include "heron/draw/ring_picture.hpp"

#include <fmt/format.h>

#include "canvas.hpp"

namespace heron {

Image<Rgb> draw_rings(const ImageView<const uint8_t>& picture, const std::vector<RingSeen>& rings) {
  using namespace draw;
  Canvas canvas(picture);
  for (const RingSeen& r : rings) {
    const auto pixel = [&](double x, double y) { return apply(r.pixel_from_mark, {x, y}); };
    std::vector<std::pair<Point2, Point2>> rim;
    Point2 last = pixel(1, 0);
    for (int k = 1; k <= 72; ++k) {
      const Point2 p = unit(degrees(5 * k)), next = pixel(p.x, p.y);
      rim.emplace_back(last, next);
      last = next;
    }
    canvas.lines(rim, edge_color, 1.5);
    canvas.arrow(r.centre, pixel(1.5, 0), axis_color, 1.5, Stroke::solid);
    canvas.arrow(r.centre, pixel(0, 1.5), axis_color, 1.5, Stroke::dashed);
    canvas.label(pixel(1.75, 0) + Point2{-6, -8}, "X", axis_color, 11);
    canvas.label(pixel(0, 1.75) + Point2{-6, -8}, "Y", axis_color, 11);
  }
  for (const RingSeen& r : rings)
    canvas.label({r.centre.x - 30, r.centre.y + 0.8 * r.diameter_px + 4},
                 fmt::format("ring {}  {:.0f}", r.identity, r.score));
  return canvas.image();
}

}  // namespace heron
